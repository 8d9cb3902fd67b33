// The registry while a file is collected: nothing is run but the bodies of suites.
'use strict';

const path = require('node:path');

const { Item, callerLine, declaration, here } = require('./tree.cjs');

class Collector {
  constructor(place, options, channel) {
    this.place = place;
    this.file = path.join(options.root, place);
    this.focus = options.focus;
    this.channel = channel;
    this.root = new Item(null, 'file', '');
    this.found = [];
    this.bodies = [];
    this.idle = new Promise((resolve) => { process.once('beforeExit', resolve); });
  }

  test(real, mark, ...given) {
    const { title, options } = declaration(...given);
    this.add('test', title, { ...options, ...mark });
    return Promise.resolve();
  }

  suite(real, mark, ...given) {
    const { title, options, fn } = declaration(...given);
    const all = { ...options, ...mark };
    const item = this.add('suite', title, all);
    if (all.skip) item.stands = true; // its body is not looked into: it is one skipped test
    else if (fn) this.bodies.push(this.describe(item, fn));
    return Promise.resolve();
  }

  async describe(item, fn) {
    try {
      await here.run(item, () => fn.call({}, { name: item.title, signal: new AbortController().signal }));
    } catch {
      item.stands = true; // the runtime will fail it as a whole
    }
  }

  hook() {}

  add(kind, title, options) {
    const parent = here.getStore() || this.root;
    const item = new Item(parent, kind, title);
    item.line = callerLine(this.file);
    item.only = Boolean(options.only);
    if (item.only) for (let up = parent; up; up = up.parent) up.narrowed = true;
    item.stands = kind === 'test';
    this.found.push(item);
    return item;
  }

  /** Once every body is done and nothing is left to wait for, or nothing came for a while. */
  async settled(quiet) {
    for (let seen = -1; seen !== this.found.length;) {
      seen = this.found.length;
      await Promise.race([Promise.all(this.bodies), this.idle]);
      const pause = new Promise((resolve) => { setTimeout(resolve, quiet).unref(); });
      await Promise.race([pause, this.idle]);
    }
  }

  tell() {
    for (const item of this.found.filter((one) => one.stands)) {
      const message = { type: 'test', address: `${this.place}#${item.name}` };
      if (item.line) message.line = item.line;
      if (isMarked(item)) message.marked = true;
      if (this.focus && isFocused(item)) message.focused = true;
      this.channel.send(message);
    }
  }
}

function isMarked(item) {
  return Boolean(item) && (item.only || isMarked(item.parent));
}

/** Marked itself, or inside of a marked suite in which nothing else is marked. */
function isFocused(item) {
  let marked = item;
  while (marked && !marked.only) marked = marked.parent;
  return Boolean(marked) && (marked === item || !marked.narrowed);
}

module.exports = { Collector };
