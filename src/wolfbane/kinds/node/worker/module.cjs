// Put a registry's functions in the place of the runtime's test module, or of globals.
'use strict';

const fs = require('node:fs');
const Module = require('node:module');
const real = require('node:test');

const { globalWords } = require('./globals.cjs');

const SHARED = Symbol.for('wolfbane.test');
// An import of the module as a whole: its default cannot be replaced from outside.
const WHOLE = /import\s+(?:\w+|\*\s*as\s+\w+|\w+\s*,\s*\{[^}]*\})\s+from\s*['"]node:test['"]/;

const HOOKS = ['before', 'after', 'beforeEach', 'afterEach'];
const REPLACED = ['test', 'it', 'describe', 'suite', 'skip', 'todo', 'only', ...HOOKS];

/** The test module as a test file sees it: `test` itself, with all the rest as its properties. */
function facade(registry) {
  const test = variants(registry, 'test', real.test);
  const suite = variants(registry, 'suite', real.describe);
  const words = { test, it: test, describe: suite, suite };
  for (const hook of HOOKS) {
    const realHook = real[hook];
    words[hook] = (...given) => registry.hook(realHook, hook, ...given);
  }
  for (const name of Object.getOwnPropertyNames(real)) {
    if (['length', 'name', 'prototype'].includes(name) || name in test && !(name in words)) continue;
    test[name] = name in words ? words[name] : real[name];
  }
  return test;
}

function variants(registry, kind, realFunction) {
  const plain = (...given) => registry[kind](realFunction, {}, ...given);
  for (const mark of ['skip', 'todo', 'only']) {
    const marked = realFunction[mark];
    plain[mark] = (...given) => registry[kind](marked, { [mark]: true }, ...given);
  }
  return plain;
}

/** Have `require` and `import` of the test module give the registry's functions. */
function install(registry, { file, esm, globals }) {
  const replacement = facade(registry);
  if (globals) Object.assign(globalThis, globalWords(replacement));
  const load = Module._load;
  Module._load = function (request, ...rest) {
    return request === 'node:test' ? replacement : load.call(this, request, ...rest);
  };
  const names = Object.keys(real);
  for (const name of REPLACED) if (name in real) real[name] = replacement[name];
  Module.syncBuiltinESMExports();
  if (esm && WHOLE.test(fs.readFileSync(file, 'utf8'))) {
    globalThis[SHARED] = replacement;
    Module.register('./hooks.mjs', { parentURL: `file://${__filename}`, data: { names } });
  }
}

module.exports = { install };
