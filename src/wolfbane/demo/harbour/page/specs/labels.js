// Words that are there without an import: the suite says bare_words = true.

const assert = require('node:assert/strict');

describe('labels', function () {
  before(async function () {
    this.page = await import('../fees.mjs');
  });

  it('has one crown @smoke', function () {
    assert.equal(this.page.label(1), '1 crown');
  });

  context('when a boat is too long', () => {
    it('is refused', function (done) {
      this.page.feeLater({ length: 40, nights: 1, month: 7 }).catch((error) => {
        assert.match(error.message, /no berth takes 40 metres/);
        done();
      });
    });
  });
});
