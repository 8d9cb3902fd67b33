"""The page of a test replays what it did in its browser, and a browser stays open to be seen."""

from __future__ import annotations

import os
import shutil
import subprocess

import pytest

from browser_suites import needs, pages, suite
from reader import browser_to_read, reader

__all__ = ["browser_to_read", "pages", "reader", "suite"]  # fixtures
pytestmark = needs("chromium")
BODY = """
def test_books(self):
    browser = Browser()
    self.addCleanup(browser, "DELETE")
    browser.open("quay")
    browser("POST", f"/element/{browser.find('#crew')}/value", text="Heron")
    browser.open("quay?next")
    browser.find("#berth-lst")
"""
PLACE = "#test=pages%2Ftest_quay.py%23Quay%20%2F%20test_books%20%40chromium"


def test_commands_are_stepped_through_beside_their_pictures(suite, reader):
    folder = suite(BODY)
    folder.run("--evidence", "all", "--report", "html=report.html")
    for size, dark in (((1280, 800), False), ((390, 844), True)):
        reader.like(size=size, dark=dark)
        reader.open(folder.path / "report.html", PLACE)
        now = ".replay [aria-current]"
        assert "find '#berth-lst' by css selector" in reader.text(now)  # what failed comes first
        assert reader.text(".replay .steps .path") == "command 6 of 7"
        assert "after it failed to find" in reader.text(".replay figcaption")
        last = reader.js("return document.querySelector('.replay img').src")
        reader.press("Left", "Left")
        assert "type 'Heron' into '#crew'" in reader.text(now)
        assert reader.js("return document.querySelector('.replay img').src") != last
        reader.press("Right")
        assert "quay?next" in reader.text(now)
        lines = reader.texts(".replay li")
        assert any("console" in line and "the gauge is silent" in line for line in lines)
        assert any("404 GET" in line and "/lost.png" in line for line in lines)
        wide = "return document.documentElement.scrollWidth <= innerWidth"
        assert reader.js(wide) and reader.complaints() == []


@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="there is no virtual screen here")
def test_the_browser_of_a_failed_test_stays_open_until_enter(suite):
    folder = suite(BODY)
    options = ["--visible", "--keep-open", "--pace", "10ms"]
    for asked in (options[1:2], options[2:], options):
        refused = folder.call("run", *asked, DISPLAY="", WAYLAND_DISPLAY="")
        assert refused.code == 2, refused.out
    reading, writing = os.pipe()
    screen = ["Xvfb", "-displayfd", str(writing), "-nolisten", "tcp"]
    with subprocess.Popen(screen, pass_fds=[writing], stderr=subprocess.DEVNULL) as shown:
        number = os.read(reading, 16).decode().strip()
        run = folder.call("run", "-j1", *options, answers=[""], DISPLAY=f":{number}")
        shown.kill()
    stays = "Browser 'chromium' stays open after pages/test_quay.py#Quay / test_books"
    assert stays in run.out and "page    http://127.0.0.1" in run.out
    assert (run.code, "Press any key to close the browser and continue." in run.out) == (1, True)
