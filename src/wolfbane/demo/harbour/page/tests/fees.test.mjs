// The runtime's own test module.
// tags: category=billing

import assert from 'node:assert/strict';
import { describe, it, test } from 'node:test';

import { fee, feeLater, label } from '../fees.mjs';

// tags: smoke
test('a summer fee', () => {
  assert.equal(fee({ length: 10, nights: 2, month: 7 }), 60);
});

describe('in winter', () => {
  it('costs half', () => {
    assert.equal(fee({ length: 10, nights: 2, month: 1 }), 30);
  });

  it.todo('forgives the first night of the year');
});

test('every berth of the price list', async (t) => {
  const list = { A1: [8, 24], A2: [10, 30], B1: [12, 36] };
  for (const [berth, [length, crowns]] of Object.entries(list)) {
    await t.test(`berth ${berth}`, () => {
      assert.equal(fee({ length, nights: 1, month: 6 }), crowns);
    });
  }
});

test('the page waits for the last key', async () => {
  assert.equal(label(await feeLater({ length: 10, nights: 1, month: 7 })), '30 crowns');
});
