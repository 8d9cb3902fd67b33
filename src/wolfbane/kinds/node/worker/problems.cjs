// From what was thrown to the words, trace and frames of a message.
'use strict';

const { spawnSync } = require('node:child_process');
const path = require('node:path');
const { fileURLToPath } = require('node:url');

const FRAME = /^\s*at (?:(?:async )?(.*?) \()?(?:(?:async )?)((?:file:\/\/|\/).*?):(\d+)(?::\d+)?\)?$/;
const SYNTAX_HEAD = /^((?:file:\/\/)?\/.*?):(\d+)$/m;
const DEEPEST = 5;

function filePath(place) {
  return place.startsWith('file://') ? fileURLToPath(place) : place;
}

/** The user's own lines of a stack, outermost first as everywhere in Wolfbane. */
function framesOf(stack) {
  const frames = [];
  for (const line of stack.split('\n')) {
    const match = FRAME.exec(line);
    if (!match) continue;
    const file = filePath(match[2]);
    if (path.dirname(file) === __dirname) continue;
    frames.unshift({ file, line: Number(match[3]), function: match[1] || '' });
  }
  return frames;
}

function isOurs(line) {
  return line.includes('(node:internal/') || line.includes('at node:internal/')
    || line.includes('(node:async_hooks:') || line.includes(__dirname);
}

function traceOf(error, depth = 0) {
  const lines = String(error.stack || error).split('\n').filter((line) => !isOurs(line));
  if (error.cause instanceof Error && depth < DEEPEST) {
    lines.push(`Caused by: ${traceOf(error.cause, depth + 1)}`);
  }
  if (Array.isArray(error.errors) && depth < DEEPEST) {
    for (const inner of error.errors) {
      lines.push(inner instanceof Error ? traceOf(inner, depth + 1) : show(inner));
    }
  }
  return lines.join('\n');
}

function show(value) {
  return typeof value === 'string' ? value : require('node:util').inspect(value);
}

/** Whether something thrown says that an assertion did not hold, by Node's class or its like. */
function isAssertion(error) {
  return error.code === 'ERR_ASSERTION' || /^Assert(ion)?Error\b/.test(error.name);
}

/** Outcome, message, trace and frames for anything that was thrown. */
function problemOf(thrown) {
  if (!(thrown instanceof Error) && !(thrown && typeof thrown === 'object' && 'stack' in thrown)) {
    return { outcome: 'errored', message: `thrown: ${show(thrown)}` };
  }
  const stack = String(thrown.stack);
  const frames = framesOf(stack);
  const syntax = thrown instanceof SyntaxError && SYNTAX_HEAD.exec(stack.split('\n')[0]);
  if (syntax) frames.push({ file: filePath(syntax[1]), line: Number(syntax[2]), function: '' });
  const failed = isAssertion(thrown);
  const named = thrown.name && !failed ? `${thrown.name}: ` : '';
  return {
    outcome: failed ? 'failed' : 'errored',
    message: `${named}${thrown.message}`.trim() || 'an error without a message',
    trace: traceOf(thrown),
    frames,
  };
}

/** A problem of loading a file; where the runtime keeps the place to itself, it is asked again. */
function loadProblem(thrown, file) {
  const problem = problemOf(thrown);
  if (!(thrown instanceof SyntaxError) || problem.frames.length) return problem;
  const check = spawnSync(process.execPath, ['--check', file], { encoding: 'utf8', timeout: 10_000 });
  const place = SYNTAX_HEAD.exec(check.stderr || '');
  if (!place) return problem;
  const trace = check.stderr.split('\n').filter((line) => !isOurs(line)).join('\n').trim();
  const frame = { file: filePath(place[1]), line: Number(place[2]), function: '' };
  return { ...problem, trace, frames: [frame] };
}

module.exports = { loadProblem, problemOf, filePath };
