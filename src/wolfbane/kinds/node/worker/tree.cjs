// Declared tests and suites, their names and places: the same whether collected or run.
'use strict';

const { AsyncLocalStorage } = require('node:async_hooks');

const { filePath } = require('./problems.cjs');

const SEPARATOR = ' / ';

/** A test or suite. `told` counts the children whose start the runtime has reported. */
class Item {
  constructor(parent, kind, title) {
    this.parent = parent;
    this.kind = kind;
    this.title = title;
    this.children = [];
    this.told = 0;
    this.held = [];
    this.output = '';
    this.repeats = new Map();
    this.used = parent ? parent.used : new Set(); // the names of all items of the file
    this.name = parent ? parent.nameOfNext(title) : '';
  }

  /**
   * Distinct and stable: a second item of one name is called `NAME (2)`. Items in different places
   * can have the same name, since titles may have the separator in them.
   */
  nameOfNext(title) {
    let count = this.repeats.get(title) || 0;
    let name;
    do {
      count += 1;
      const label = count > 1 ? `${title} (${count})` : title;
      name = this.name ? this.name + SEPARATOR + label : label;
    } while (this.used.has(name));
    this.repeats.set(title, count);
    this.used.add(name);
    return name;
  }

  /** What is around it, or it itself, directly in the file. */
  get outermost() {
    let item = this;
    while (item.parent && item.parent.parent) item = item.parent;
    return item;
  }

  /** The nearest test around it: what is declared inside of one is made while it runs. */
  get within() {
    for (let item = this.parent; item; item = item.parent) if (item.kind === 'test') return item;
    return null;
  }
}

const here = new AsyncLocalStorage();

/** What `test(name, options, fn)` was given, in any of the shapes that the runtime takes. */
function declaration(name, options, fn) {
  if (typeof name === 'function') fn = name;
  else if (name !== null && typeof name === 'object') [fn, options] = [options, name];
  else if (typeof options === 'function') fn = options;
  if (options === null || typeof options !== 'object') options = {};
  if (typeof fn !== 'function') fn = undefined;
  const title = typeof name === 'string' && name ? name : (fn && fn.name) || '<anonymous>';
  return { title, options, fn };
}

/** The line of `file` from which the present call came, or 0. */
function callerLine(file) {
  const prepare = Error.prepareStackTrace;
  Error.prepareStackTrace = (_, sites) => sites;
  const sites = new Error().stack;
  Error.prepareStackTrace = prepare;
  for (const site of Array.isArray(sites) ? sites : []) {
    const place = site.getFileName();
    if (place && filePath(place) === file) return site.getLineNumber();
  }
  return 0;
}

module.exports = { Item, declaration, callerLine, here, SEPARATOR };
