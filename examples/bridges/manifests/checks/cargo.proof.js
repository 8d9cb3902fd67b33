/* global chapter, proof */
const assert = require('node:assert');

chapter('barge', () => {
  proof('carries salt', { category: 'cargo' }, () => assert.ok(true));
  chapter('in winter', () => {
    proof('carries "half" as much', () => assert.strictEqual(10 / 2, 5));
    proof('needs no ice pilot', { owner: 'quay' }, () => assert.strictEqual('pilot', 'none'));
  });
});
chapter('ferry', () => {
  proof('carries salt', () => assert.ok(true));
});
