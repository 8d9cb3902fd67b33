// What tests print: descriptors 1 and 2 lead to a file that is emptied after each test.
'use strict';

const fs = require('node:fs');

const KEPT = 1 << 20;

class Capture {
  constructor(path) {
    this.file = fs.openSync(path, fs.constants.O_RDWR | fs.constants.O_APPEND);
  }

  /** What was printed since the last call; the middle of a flood is left out. */
  take() {
    const { size } = fs.fstatSync(this.file);
    if (size === 0) return '';
    let text;
    if (size <= KEPT) {
      text = this.read(size, 0);
    } else {
      const tail = this.read(KEPT / 2, size - KEPT / 2);
      text = `${this.read(KEPT / 2, 0)}\n[... ${size - KEPT} bytes left out ...]\n${tail}`;
    }
    fs.ftruncateSync(this.file, 0);
    return text;
  }

  read(length, position) {
    const buffer = Buffer.alloc(length);
    return buffer.toString('utf8', 0, fs.readSync(this.file, buffer, 0, length, position));
  }
}

module.exports = { Capture };
