// The registry while a file is run: the runtime's test module gets the tests that were asked for.
'use strict';

const path = require('node:path');

const damage = require('./damage.cjs');
const { follow } = require('./reporter.cjs');
const { problemOf } = require('./problems.cjs');
const { Item, SEPARATOR, callerLine, declaration, here } = require('./tree.cjs');

const IDLE_MS = 1000; // nothing left to run, but something (a server?) keeps the process alive
const DRAINED = /event loop has already resolved/; // the runtime's words for what never settles
const CLOSING_MS = 10_000; // the same, while closing hooks may be at work

class Runner {
  constructor({ file, names, without }, options, channel, capture) {
    this.place = file;
    this.file = path.join(options.root, file);
    this.channel = channel;
    this.capture = capture;
    this.asked = new Set(names);
    this.without = new Set(without || []);
    this.around = containersOf(names);
    this.root = new Item(null, 'file', '');
    this.contexts = new WeakMap();
    this.pending = 0;
    this.running = 0;
    this.finished = new Set();
    this.strays = [];
    this.unsettled = [];
    this.spoiled = false;
    this.patience = IDLE_MS;
    this.ended = new Promise((resolve) => { this.end = resolve; });
    process.once('beforeExit', () => { if (!this.root.children.length) this.end(); });
    follow(this);
  }

  // What test files call.

  test(real, mark, ...given) {
    const { title, options, fn } = declaration(...given);
    return this.register(real, 'test', title, options, fn, here.getStore() || this.root);
  }

  suite(real, mark, ...given) {
    const { title, options, fn } = declaration(...given);
    return this.register(real, 'suite', title, options, fn, here.getStore() || this.root);
  }

  hook(real, name, ...given) {
    if (name === 'after' && !here.getStore()) this.patience = CLOSING_MS;
    return real(...given);
  }

  /** Register a test or suite with the runtime if it, or something inside of it, was asked for. */
  register(real, kind, title, options, fn, parent) {
    const item = new Item(parent, kind, title);
    const outer = item.within;
    item.whole = this.asked.has(item.name);
    const inner = outer !== null;
    if (inner && !item.whole) item.whole = outer.whole && !this.without.has(item.name);
    if (!item.whole && !this.around.has(item.name)) {
      if (!inner) return Promise.resolve();
      item.ghost = true; // still counted by the runtime, as the test around it may have planned
      return this.create(real, item, { ...options, skip: true }, fn);
    }
    if (inner && item.whole && kind === 'test') this.announce(item);
    return this.create(real, item, options, fn && this.wrapped(item, fn));
  }

  create(real, item, options, fn) {
    item.parent.children.push(item);
    if (item.parent === this.root) this.pending += 1;
    return real(item.title, options, fn);
  }

  wrapped(item, fn) {
    const runner = this;
    function call(context, ...rest) {
      if (item.kind === 'test') runner.begin(item, context);
      return here.run(item, () => fn.call(this, context, ...rest));
    }
    return Object.defineProperty(call, 'length', { value: fn.length });
  }

  begin(item, context) {
    const printed = this.capture.take();
    (item.within || item).output += printed;
    this.contexts.set(context, item);
    this.running += 1;
    item.before = this.running === 1 ? damage.state() : null; // beside others nobody can tell
    this.adopt(Object.getPrototypeOf(context));
    this.start(item);
  }

  /** Have `t.test` go through here too: the class of contexts is met with the first of them. */
  adopt(prototype) {
    if (this.adopted) return;
    this.adopted = true;
    const runner = this;
    const { test, diagnostic } = prototype;
    const within = (context) => runner.contexts.get(context) || here.getStore() || runner.root;
    prototype.test = function (...given) {
      const { title, options, fn } = declaration(...given);
      return runner.register(test.bind(this), 'test', title, options, fn, within(this));
    };
    prototype.diagnostic = function (message) {
      within(this).output += `${message}\n`;
      return diagnostic.call(this, message);
    };
  }

  // What the runtime reports; see reporter.cjs.

  closed(item, verdict) {
    if (item.parent === this.root) this.settle();
    if (item.ghost) return;
    if (item.before !== undefined) this.lookAtDamage(item);
    item.output += this.capture.take();
    if (verdict.cancelled && DRAINED.test(verdict.message)) {
      this.unsettled.push([item, verdict]);
      return;
    }
    this.release(item, verdict);
    if (item.kind === 'suite') {
      if (this.asked.has(item.name)) this.finish(item, verdict);
      else if (verdict.outcome === 'skipped') this.skipInside(item, verdict);
      else if (verdict.own && !item.spoiled) this.finish(item, verdict);
    } else if (verdict.cancelled) {
      item.parent.held.push([item, verdict]);
    } else if (item.whole || verdict.own) {
      this.finish(item, verdict);
    }
  }

  /** The runtime skipped a suite, for example since it lacks a mark that `--test-only` wants. */
  skipInside(suite, verdict) {
    for (const name of this.asked) {
      if (!name.startsWith(suite.name + SEPARATOR) || this.finished.has(name)) continue;
      this.finish({ name, whole: true, output: '' }, { ...verdict, seconds: 0 });
    }
  }

  lookAtDamage(item) {
    this.running -= 1;
    const left = item.before ? damage.changes(item.before, damage.state()) : [];
    if (!left.length) return;
    this.channel.send({ type: 'damage', address: this.address(item), left, lasting: false, stays: true });
  }

  /** Tests that were cancelled take the reason from what is around them, if it has one. */
  release(item, verdict) {
    for (const [child, cancelled] of item.held.splice(0)) {
      const reason = verdict.own ? { ...verdict, seconds: cancelled.seconds } : cancelled;
      item.spoiled = true;
      if (child.whole) this.finish(child, reason);
    }
  }

  start(item) {
    if (!item.whole || item.begun) return;
    item.begun = true;
    this.channel.send({ type: 'started', address: this.address(item) });
  }

  finish(item, { outcome, message, trace, frames, seconds }) {
    this.start(item);
    const address = this.address(item);
    if (item.output) this.channel.send({ type: 'output', address, stream: 'both', text: item.output });
    this.channel.send({ type: 'finished', address, outcome, seconds, message, trace, frames });
    this.finished.add(item.name);
  }

  announce(item) {
    const line = callerLine(this.file) || undefined;
    this.channel.send({ type: 'test', address: this.address(item), line });
  }

  address(item) {
    return item.name ? `${this.place}#${item.name}` : this.place;
  }

  // How it ends.

  settle() {
    this.pending -= 1;
    this.rest();
  }

  loaded() {
    this.complete = true;
    this.rest();
  }

  unloadable(problem) {
    this.problem = problem;
    this.loaded();
  }

  rest() {
    clearTimeout(this.timer);
    if (!this.complete || this.pending) return;
    this.timer = setTimeout(() => { if (!this.pending) this.end(); }, this.patience);
    this.timer.unref();
  }

  /**
   * Nothing was left to wait for, and tests had begun that wait for ever: they alone pay. If none
   * had, a hook waits, and what is in the first suite does. The rest is left to another process.
   */
  accountForUnsettled() {
    const tests = this.unsettled.filter(([item]) => item.kind === 'test' && item.whole);
    const begun = tests.filter(([item]) => item.begun);
    const first = tests.filter(([item]) => item.outermost === tests[0][0].outermost);
    const paying = begun.length ? begun : first;
    for (const [item, verdict] of paying) {
      const message = 'the test never finished: it awaits a promise that is never settled';
      this.finish(item, { ...verdict, message });
    }
    this.spoiled = tests.length > paying.length;
  }

  stray(error) {
    this.strays.push(error);
  }

  /** What no test can be blamed for: the file's own failure to load, and errors out of nowhere. */
  account() {
    this.accountForUnsettled();
    this.release(this.root, {});
    if (this.problem) {
      const missed = [...this.asked].filter((name) => !this.finished.has(name));
      for (const name of missed.length ? missed : ['']) {
        this.finish({ name, whole: true, output: this.capture.take() }, { ...this.problem, seconds: 0 });
      }
    } else if (this.loose) {
      const problem = problemOf(this.strays.at(-1) || new Error(this.loose));
      const message = `error after the end of the test: ${problem.message}`;
      this.finish({ name: '', whole: true, output: '' }, { ...problem, message, seconds: 0 });
    }
  }
}

/** Every name that has one of these names inside of it. */
function containersOf(names) {
  const around = new Set();
  for (const name of names) {
    for (let end = name.lastIndexOf(SEPARATOR); end > 0; end = name.lastIndexOf(SEPARATOR, end - 1)) {
      around.add(name.slice(0, end));
    }
  }
  return around;
}

module.exports = { Runner };
