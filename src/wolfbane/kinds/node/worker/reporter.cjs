// Listen to the runtime's own events, and say which test each of them is about.
//
// Loaded twice in one process: by the worker, and by the runtime as its reporter. Events carry
// no identity but names, so each is matched by its place: children are reported in the order in
// which they were registered.
'use strict';

const { Writable } = require('node:stream');

const { problemOf } = require('./problems.cjs');

let runner = null;
const open = []; // the items whose start was reported, by nesting

function follow(listener) {
  runner = listener;
}

class Reporter extends Writable {
  constructor() {
    super({ objectMode: true });
    this.on('pipe', (events) => {
      events.on('test:start', started);
      events.on('test:pass', (event) => ended(event, verdictOf(event, null)));
      events.on('test:fail', (event) => ended(event, verdictOf(event, event.details.error)));
      events.on('test:plan', (event) => { if (event.nesting === 0) setImmediate(runner.end); });
      events.on('test:diagnostic', ({ nesting, message }) => {
        if (nesting === 0 && /^Error: /.test(message)) runner.loose = message;
      });
    });
  }

  _write(chunk, encoding, done) {
    done();
  }
}

function started({ nesting, name }) {
  const parent = nesting ? open[nesting - 1] : runner.root;
  open.length = nesting;
  if (!parent) return;
  let next = parent.told;
  while (next < parent.children.length && parent.children[next].title !== name) next += 1;
  if (next === parent.children.length) return;
  parent.told = next + 1;
  open[nesting] = parent.children[next];
}

function ended({ nesting }, verdict) {
  const item = open[nesting];
  if (item) runner.closed(item, verdict);
}

/** Outcome and problem; `own` where the fault is not that of tests inside. */
function verdictOf({ skip, todo, details }, error) {
  const seconds = Math.round(details.duration_ms * 1000) / 1e6;
  if (skip !== undefined && skip !== false) return { outcome: 'skipped', message: text(skip), seconds };
  const cause = error && (error.cause === undefined ? error : error.cause);
  if (todo !== undefined && todo !== false) {
    const message = text(todo) || (error ? `failed as expected: ${cause.message || cause}` : '');
    return { outcome: 'todo', message, seconds };
  }
  if (!error) return { outcome: 'passed', seconds };
  const type = error.failureType;
  const thrown = cause instanceof Error || type === 'testCodeFailure';
  const problem = thrown ? problemOf(cause) : { outcome: 'errored', message: text(cause) };
  if (type === 'subtestsFailed') return { ...problem, outcome: 'failed', seconds };
  if (type === 'testTimeoutFailure' || (thrown && cause && cause.timedOut)) problem.outcome = 'timed out';
  const hook = type === 'hookFailed';
  if (hook) problem.message = `in a hook: ${problem.message}`;
  return { ...problem, seconds, hook, own: true, cancelled: type === 'cancelledByParent' };
}

function text(value) {
  return typeof value === 'string' ? value : value === true ? '' : String(value);
}

module.exports = new Reporter();
module.exports.follow = follow;
