"""What browsers download: private folders for sessions, and the files of failed tests."""

from __future__ import annotations

import pytest

from browser_suites import ENGINES, needs, pages, suite

__all__ = ["pages", "suite"]  # fixtures

DOWNLOAD = """
def saved(self, browser, name="tides.bin"):
    browser.open("quay")
    browser.run("setTimeout(() => { location.href = '/tides.bin' }, 0)")
    end = time.monotonic() + 20
    while True:
        try:
            with open(os.path.join(os.environ["LANDED"], name)) as file:
                if (text := file.read()).endswith("</html>"):
                    return text
        except OSError:
            pass
        self.assertLess(time.monotonic(), end, os.listdir(os.environ["LANDED"]))
        time.sleep(0.02)
"""


@pytest.mark.parametrize("engine", [pytest.param(e, marks=needs(e)) for e in ENGINES])
def test_a_session_has_its_own_downloads(suite, tmp_path, engine):
    home = tmp_path / "home"
    (home / "Downloads").mkdir(parents=True)
    for target in (home, home / "Downloads"):
        (target / "tides.bin").write_text("of the tester")
    folder = suite(
        f"""{DOWNLOAD}
def test_fails(self):
    one = Browser()
    self.saved(one)
    two = Browser()
    places = [each.granted["wolfbane:downloads"] for each in (one, two)]
    self.assertEqual([os.listdir(place) for place in places], [["tides.bin"], []])
    self.fail("with a download")

def test_passes(self):
    browser = Browser()
    browser("DELETE")
    self.assertEqual(os.listdir(os.environ["LANDED"]), [])
    self.assertIn("Saltmarsh quay", self.saved(Browser()))
""",
        browsers=(engine,),
    )
    run = folder.run("--jobs", "1", HOME=str(home))
    failed, passed = sorted(run.results.values(), key=lambda result: result["outcome"])
    assert "with a download" in failed["message"], failed["message"]
    assert passed["outcome"] == "passed", passed["message"]
    [kept] = [each for each in failed["evidence"] if each["kind"] == "download"]
    assert kept["name"] == "tides.bin"
    [target] = folder.path.glob(f".wolfbane/runs/*/{kept['path']}")
    assert "Saltmarsh quay" in target.read_text()
    assert "tides.bin" in run.out
    assert not any(each["kind"] == "download" for each in passed.get("evidence", ()))
    files = list(home.rglob("tides.bin"))
    assert {path.read_text() for path in files} == {"of the tester"}
    assert len(files) == 2


@needs("chromium")
def test_downloads_go_where_the_settings_say(suite):
    folder = suite(
        f"""{DOWNLOAD}
def test_downloads(self):
    self.saved(Browser())
""",
        browsers=("saving",),
        more="""
    [browser.saving]
    engine = "chromium"
    downloads = "landed/here"
""",
    )
    run = folder.run()
    assert set(run.outcomes.values()) == {"passed"}, run.out
    assert (folder.path / "landed" / "here" / "tides.bin").is_file()
