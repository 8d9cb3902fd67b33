// What a test changed in its process and left so: the following tests of its file see that.
'use strict';

const WATCHED = { Date, fetch: globalThis.fetch, setTimeout, setInterval, setImmediate, clearTimeout };
const METHODS = [['Math', 'random'], ['console', 'log'], ['console', 'error'], ['Date', 'now']];

function folder() {
  try {
    return process.cwd();
  } catch {
    return ''; // it was removed
  }
}

/** The state at one moment. */
function state() {
  return {
    folder: folder(),
    variables: { ...process.env },
    globals: Object.fromEntries(Object.keys(WATCHED).map((name) => [name, globalThis[name]])),
    methods: METHODS.map(([holder, name]) => globalThis[holder] && globalThis[holder][name]),
  };
}

/** The differences, in words. What was added to the environment counts for nothing. */
function changes(before, after) {
  const left = [];
  if (after.folder !== before.folder) left.push('working folder changed');
  const names = Object.keys(before.variables).filter((n) => after.variables[n] !== before.variables[n]);
  if (names.length) left.push(`environment variables changed or removed: ${names.sort().slice(0, 3).join(', ')}`);
  for (const name of Object.keys(before.globals)) {
    if (after.globals[name] !== before.globals[name]) left.push(`${name} replaced`);
  }
  METHODS.forEach(([holder, name], index) => {
    const replaced = after.globals[holder] !== before.globals[holder];
    if (!replaced && after.methods[index] !== before.methods[index]) left.push(`${holder}.${name} replaced`);
  });
  return left;
}

module.exports = { state, changes };
