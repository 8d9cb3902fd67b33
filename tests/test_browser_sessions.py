"""Sessions of browsers: whose they are when tests run at once, and how they end."""

from __future__ import annotations

import json

import pytest
from PIL import Image

from browser_suites import ENGINES, needs, pages, suite
from wolfbane.browsers.engines.firefox_start_files import StartFiles

__all__ = ["pages", "suite"]  # fixtures
pytestmark = needs("chromium")

TWO = """
import { describe, it } from 'node:test';
import assert from 'node:assert';

const send = async (method, path, body) => {
  const answer = await fetch(process.env.ENDPOINT + path, {
    method, body: method === 'POST' ? JSON.stringify(body ?? {}) : undefined });
  const { value } = await answer.json();
  if (!answer.ok) throw new Error(value.error);
  return value;
};
let here = 0, meet;
const both = new Promise((go) => { meet = () => { if (++here === 2) go(); }; });
const visit = async (page) => {
  const { sessionId } = await send('POST', '/session', { capabilities: {} });
  await send('POST', `/session/${sessionId}/url`, { url: `${process.env.PAGES}/${page}` });
  meet();
  await both;  // both sessions are open now
  return (await send('GET', `/session/${sessionId}/url`)).split('/').at(-1);
};
describe('berths', { concurrency: true }, () => {
  it('wrong', async () => { assert.equal(await visit('neap'), 'spring'); });
  it('right', async () => { assert.equal(await visit('ebb'), 'ebb'); });
});
"""


def test_two_tests_at_once_keep_their_sessions(suite):
    folder = suite("", more="")
    settings = (folder.path / "wolfbane.toml").read_text().replace('"python"', '"node"')
    folder.file("wolfbane.toml", settings)
    (folder.path / "pages" / "test_quay.py").unlink()
    folder.file("pages/quay.test.mjs", TWO)
    run = folder.run("-j1")
    outcomes = {address.split(" / ")[1].split()[0]: o for address, o in run.outcomes.items()}
    assert outcomes == {"wrong": "failed", "right": "passed"}, run.out
    assert "did not close its browser session" not in run.out.partition("failed")[0]
    [wrong] = [told for told in run.results.values() if told["outcome"] == "failed"]
    protocols = [
        path.read_text() for path in folder.path.rglob("*.protocol.txt") if "wrong" in path.name
    ]
    assert any("/neap: done" in text for text in protocols), wrong["evidence"]


@pytest.mark.parametrize("wrong", ["browser.find('#moored')", "raise ValueError('moored')"])
def test_what_a_class_set_up_did_is_evidence_of_each_test_it_failed(suite, wrong):
    folder = suite(
        f"""
@classmethod
def setUpClass(cls):
    browser = Browser()
    cls.addClassCleanup(browser, "DELETE")
    browser.open("quay")
    {wrong}
def test_a(self):
    pass
def test_b(self):
    pass
"""
    )
    with (folder.path / "pages" / "test_quay.py").open("a", encoding="utf-8") as file:
        file.write(
            "\n\nclass Slip(unittest.TestCase):\n    def test_goes(self):\n        Browser()\n"
        )
    run = folder.run("-j1")
    assert sorted(run.outcomes.values()) == ["errored", "errored", "passed"]
    for told in (each for each in run.results.values() if each["outcome"] == "errored"):
        kinds = [kept["kind"] for kept in told["evidence"]]
        assert {"screenshot", "page", "protocol"} <= set(kinds), json.dumps(told)
        assert "moored" in told["message"]
        assert "raise" in wrong or "waited" in told["message"]


@pytest.mark.parametrize("page", ["https://quay.example", "null"])
def test_a_page_cannot_send_commands(suite, page):
    folder = suite(
        f"""
def test_refused(self):
    request = urllib.request.Request(ROOT + "/status", headers={{"Origin": "{page}"}})
    with self.assertRaises(urllib.error.HTTPError) as met:
        urllib.request.urlopen(request)
    self.assertEqual(met.exception.code, 403)
"""
    )
    run = folder.run()
    assert set(run.outcomes.values()) == {"passed"}, run.out


@needs("chromium")
def test_a_driver_answers_only_who_knows_its_path(suite):
    folder = suite(
        """
def test_refused(self):
    Browser()
    mine, found = os.environ["WOLFBANE_RUN"].split(":")[-2], []
    for place in os.listdir("/proc"):
        try:
            with open(f"/proc/{place}/environ") as file, open(f"/proc/{place}/cmdline") as line:
                if mine in file.read():
                    words = line.read().split(chr(0))
                    found += [w[7:] for w in words[1:2] if w.startswith("--port=")]
        except OSError:
            continue
    self.assertEqual(len(found), 1)
    with self.assertRaises(urllib.error.HTTPError) as met:
        urllib.request.urlopen(f"http://127.0.0.1:{found[0]}/session", b'{"capabilities": {}}')
    self.assertIn(met.exception.code, (400, 404))
"""
    )
    run = folder.run()
    assert set(run.outcomes.values()) == {"passed"}, run.out


@pytest.mark.parametrize("engine", [pytest.param(e, marks=needs(e)) for e in ENGINES])
def test_the_last_window_ends_its_session(suite, engine):
    folder = suite(
        """
def test_closes(self):
    import psutil
    browser = Browser()
    mine = [
        each for each in psutil.Process().parent().children(recursive=True)
        if each.name() == "MiniBrowser"
    ]
    self.assertEqual(browser("DELETE", "/window"), [])
    # WebKit ends with its last window, at its own time.
    psutil.wait_procs(mine, timeout=20)
    with self.assertRaisesRegex(Failed, "invalid session id"):
        browser("GET", "/title")
""",
        browsers=(engine,),
    )
    run = folder.run()
    assert set(run.outcomes.values()) == {"passed"}, run.out


def test_later_starts_of_firefox_take_the_files_of_a_first_one_without_add_ons(tmp_path):
    first, later, kept = (tmp_path / name for name in ("first", "later", "kept"))
    for folder in (first / "startupCache", later, kept):
        folder.mkdir(parents=True)
    (first / "startupCache" / "scripts").write_text("compiled")
    start_files = StartFiles(kept)
    start_files.keep(first)
    start_files.lay(later)
    assert list(later.iterdir()) == []  # a start that did not reach its end leaves no version
    (first / "compatibility.ini").write_text("[Compatibility]")
    start_files.keep(first)
    start_files.lay(later)
    assert (later / "startupCache" / "scripts").read_text() == "compiled"


def test_an_open_dialog_is_in_the_picture(suite):
    folder = suite(
        """
def test_asks(self):
    browser = Browser()
    self.addCleanup(browser, "DELETE")
    browser.open("quay")
    browser.run("setTimeout(() => alert('The tide is out'))")
    browser("POST", "/timeouts", implicit=0)
    while True:
        try:
            self.fail(browser("GET", "/alert/text"))
        except Failed:
            time.sleep(0.05)
"""
    )
    folder.run()
    [picture] = folder.path.rglob("evidence/*.png")
    assert Image.open(picture).size == (1280, 800 + 56)  # the page, below the dialog's text
    [protocol] = folder.path.rglob("evidence/*.protocol.txt")
    assert "open dialog: 'The tide is out'" in protocol.read_text()
