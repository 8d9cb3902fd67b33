// A launcher of the harbour's own: chapters hold proofs, and a proof is a function.
'use strict';
const fs = require('node:fs');
const path = require('node:path');

const [file, ...words] = process.argv.slice(2);
const given = Object.fromEntries([0, 2].map((at) => [words[at], words[at + 1]]));
const wanted = new Set(fs.readFileSync(given['--names'], 'utf8').split('\n').filter(Boolean));
const tests = [];
const chapters = [];

globalThis.chapter = (name, body) => {
  chapters.push(name);
  body();
  chapters.pop();
};
globalThis.proof = (name, marks, body = marks) => {
  if (!wanted.has([...chapters, name].join(' > '))) return;
  const test = { name, suite: [...chapters], duration: 1, status: 'passed' };
  try {
    body();
  } catch (error) {
    Object.assign(test, { status: 'failed', message: error.message, trace: error.stack });
  }
  tests.push(test);
};
require(path.resolve(file));
// The report joins suites as the bridge's names do.
const joined = tests.map((test) => ({ ...test, suite: test.suite.join(' > ') }));
fs.writeFileSync(given['--report'], JSON.stringify({ results: { tests: joined } }));
process.exitCode = tests.some((test) => test.status === 'failed') ? 1 : 0;
