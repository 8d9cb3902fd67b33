// Which local files decide what a test file declares: those it imports, and theirs.
'use strict';

const fs = require('node:fs');
const path = require('node:path');

const IMPORT = /(?:\bfrom|\bimport|\brequire)\s*\(?\s*['"](\.{1,2}\/[^'"]+)['"]/g;
const ENDINGS = ['', '.js', '.cjs', '.mjs', '.json', '/index.js'];

/** Paths below `root`, by the text of the sources and by what `require` has loaded. */
function sourcesOf(file, root) {
  const loaded = Object.keys(require.cache).filter((one) => path.dirname(one) !== __dirname);
  const waiting = [file, ...loaded];
  const found = new Set();
  while (waiting.length) {
    const current = waiting.pop();
    if (found.has(current) || !current.startsWith(`${root}/`)) continue;
    if (current.includes('/node_modules/')) continue;
    const text = read(current);
    if (text === null) continue;
    found.add(current);
    for (const [, place] of text.matchAll(IMPORT)) waiting.push(...candidates(current, place));
  }
  return [...found].map((one) => path.relative(root, one));
}

function candidates(from, place) {
  const base = path.resolve(path.dirname(from), place);
  return ENDINGS.map((ending) => base + ending);
}

function read(file) {
  try {
    return fs.readFileSync(file, 'utf8');
  } catch {
    return null;
  }
}

module.exports = { sourcesOf };
