import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { Browser } from './webdriver.mjs';

let browser;

before(async () => { browser = await Browser.open(); });
after(() => browser.quit());

test('tells how long a berth is', async () => {
  await browser.visit('map.html');
  await browser.click('#berth-A1');
  assert.match(await browser.text('#berth'), /^A1: \d+ m long$/);
});

test('has a legend', async () => {
  await browser.visit('map.html');
  assert.match(await browser.text('#legend'), /longer/);
});

// Flaky by design: the crane needs a while for a browser that it has not seen before.
test('says at once how the crane is', async () => {
  await browser.visit('map.html');
  await browser.click('#ask');
  await new Promise((done) => { setTimeout(done, 500); });
  assert.match(await browser.text('#crane'), /^ready, \d+ bar$/);
});
