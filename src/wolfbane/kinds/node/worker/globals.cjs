// The words that describe/it files expect as globals, on top of the runtime's test module.
//
// Functions get a shared `this` (with `timeout` and `skip`), and a `done` callback where they
// declare a parameter.
'use strict';

const { here } = require('./tree.cjs');

class Skipped extends Error {}

/** What `this` is in a suite's hooks and tests: suites inside see what suites around them set. */
function contextOf(item) {
  if (!item) return Object.create(methods);
  item.context ||= Object.create(item.parent ? contextOf(item.parent) : methods);
  return item.context;
}

const methods = {
  timeout(milliseconds) {
    if (milliseconds === undefined) return this.limit || 0;
    this.limit = milliseconds;
    if (this.rearm) this.rearm(milliseconds);
    return this;
  },
  skip() {
    throw new Skipped();
  },
  slow() {
    return this;
  },
};

/** Run a function that takes `done`, or returns a promise, or neither. */
function perform(fn, context) {
  if (fn.length === 0) return fn.call(context);
  return new Promise((resolve, reject) => {
    let over = false;
    const done = (error) => {
      if (over) throw new Error('done() was called more than once');
      over = true;
      if (error) reject(error instanceof Error ? error : new Error(`done() was given ${error}`));
      else resolve();
    };
    fn.call(context, done);
  });
}

/** Settle with the work, or fail once `this.timeout` is over; it may be set while it runs. */
async function limited(work, context) {
  let timer;
  const late = new Promise((_, reject) => {
    context.rearm = (milliseconds) => {
      clearTimeout(timer);
      const late = new Error(`the test took longer than this.timeout(${milliseconds})`);
      const say = () => reject(Object.assign(late, { timedOut: true }));
      if (milliseconds > 0) timer = setTimeout(say, milliseconds);
    };
    if (context.limit) context.rearm(context.limit);
  });
  try {
    await Promise.race([work(), late]);
  } finally {
    clearTimeout(timer);
  }
}

function body(fn, parent) {
  return async (t) => {
    const context = Object.create(contextOf(parent));
    try {
      await limited(() => perform(fn, context), context);
    } catch (error) {
      if (!(error instanceof Skipped)) throw error;
      t.skip();
    }
  };
}

function globalWords(words) {
  const declare = (word) => (title, fn) => {
    if (typeof fn !== 'function') return words.test.todo(title);
    return word(title, body(fn, here.getStore()));
  };
  const group = (word) => (title, fn) => word(title, function () {
    return fn.call(contextOf(here.getStore()));
  });
  const hook = (word) => (...given) => {
    const fn = given.find((one) => typeof one === 'function');
    const parent = here.getStore();
    return word(() => limited(() => perform(fn, contextOf(parent)), Object.create(contextOf(parent))));
  };
  const marked = (make, word) => Object.assign(make(word), {
    skip: make(word.skip),
    only: make(word.only),
  });
  const it = marked(declare, words.test);
  const describe = marked(group, words.suite);
  const globals = { describe, context: describe, it, test: it };
  for (const name of ['before', 'after', 'beforeEach', 'afterEach']) globals[name] = hook(words[name]);
  return globals;
}

module.exports = { globalWords };
