"""Suites in browsers: what they get, what is kept of failures, and what goes wrong."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path
from textwrap import indent

import pytest

from browser_suites import ENGINES, needs, pages, suite

__all__ = ["pages", "suite"]  # fixtures
chromium = needs("chromium")
PLACE = "pages/test_quay.py#Quay /"
LONG = "phone-of-the-harbour-master-in-the-north"


def result(run, name, browser="chromium"):
    return run.results[f"{PLACE} {name} @{browser}"]


def left(folder, told, kind):
    """The content of what a test left behind of a kind."""
    [run] = (folder.path / ".wolfbane" / "runs").iterdir()
    return [(run / kept["path"]).read_bytes() for kept in told["evidence"] if kept["kind"] == kind]


@pytest.mark.parametrize("engine", [pytest.param(e, marks=needs(e)) for e in ENGINES])
def test_a_failure_leaves_its_page_behind_and_a_pass_nothing(suite, engine):
    folder = suite(
        """
def setUp(self):
    self.browser = Browser()
    self.addCleanup(self.browser, "DELETE")
    self.browser.open("quay")
def test_wrong(self):
    for field, text in (("#word", "ses" + "ame"), ("#crew", "Heron")):
        self.browser("POST", f"/element/{self.browser.find(field)}/value", text=text)
    self.assertEqual(self.browser("GET", "/title"), "Harbour")
def test_right(self):
    self.assertEqual(self.browser.run("return [innerWidth, innerHeight]"), [1280, 800])
    self.assertEqual(self.browser("GET", "/title"), "Quay")
def test_missing(self):
    for _ in range(5):
        try:
            return self.browser.find("#berth-lst")
        except Failed as failed:
            last = failed
            time.sleep(0.05)
    raise last
""",
        browsers=(engine,),
    )
    run = folder.run("--log", "protocol")
    wrong = result(run, "test_wrong", engine)
    assert wrong["outcome"] == "failed"
    assert left(folder, wrong, "screenshot")[0].startswith(b"\x89PNG")
    page = left(folder, wrong, "page")[0].decode()
    assert "Saltmarsh quay" in page and 'value="Heron"' in page and "sesame" not in page
    if engine != "webkit":  # its driver tells nothing of console and network
        assert "the gauge is silent" in left(folder, wrong, "console")[0].decode()
        [first, *_] = left(folder, wrong, "network")[0].decode().splitlines()
        assert re.search(r" 404 +GET +http://\S+/lost.png +image? ", first.replace("img", "image"))
        entries = json.loads(left(folder, wrong, "har")[0])["log"]["entries"]
        urls = {entry["request"]["url"].rpartition("/")[2]: entry for entry in entries}
        assert urls["quay"]["response"]["status"] == 200
    protocol = left(folder, wrong, "protocol")[0].decode()
    assert re.search(r"open http://\S+/quay: done, \d+ ms\n", protocol)
    assert "type ***** into '#word'" in protocol and "sesame" not in protocol + run.out
    assert "read the title  'Quay'" in run.out
    right = result(run, "test_right", engine)
    assert (right["outcome"], right["evidence"]) == ("passed", []), right["message"]
    missing = result(run, "test_missing", engine)
    said = missing["message"].splitlines()[-1]
    assert re.match(
        r"waited \d\.\d s for #berth-lst \(by css selector\); "
        r"most similar on the page: #berth-list,",
        said,
    )
    assert len(left(folder, missing, "screenshot")) == 1
    assert "evidence:\n    screenshot  .wolfbane/runs/" in run.out


@chromium
def test_evidence_of_all_tests_or_of_none(suite):
    folder = suite(
        """
def test_goes(self):
    browser = Browser()
    browser.open("quay")
    browser("POST", f"/element/{browser.find('#book')}/click")
    browser("POST", "/frame", id=None)
    browser("DELETE")
    self.assertNotIn("wrong", os.environ)
"""
    )
    told = result(folder.run("--evidence", "all"), "test_goes")
    kinds = [kept["kind"] for kept in told["evidence"]]
    pictures = ["picture", "picture", "picture", "screenshot"]
    texts = ["page", "console", "network", "har", "protocol", "replay", "filmstrip"]
    assert kinds == [*pictures, *texts]
    assert b"the gauge is silent" in left(folder, told, "console")[0]
    assert left(folder, told, "filmstrip")[0][8:12] == b"WEBP"
    failing = folder.run("--evidence", "off", wrong="1")
    told = result(failing, "test_goes")
    assert (told["outcome"], told["evidence"]) == ("failed", [])


@chromium
def test_the_settings_of_a_browser_and_the_wishes_of_a_suite(suite):
    folder = suite(
        """
def test_sees(self):
    browser = Browser(browserName="firefox", timeouts={"implicit": 120}, **{
        "moz:firefoxOptions": {"prefs": {}},
        "goog:chromeOptions": {"args": ["--window-size=7,7", "mute-audio"]}})
    browser.open("quay")
    asked = "[innerWidth, innerHeight, devicePixelRatio, navigator.language, navigator.userAgent,"
    asked += "Intl.DateTimeFormat().resolvedOptions().timeZone]"
    self.assertEqual(browser.run("return " + asked), [1000, 640, 2, "de", "Quay 1", "Asia/Tokyo"])
    self.assertEqual(browser("GET", "/timeouts")["implicit"], 120)
    self.assertEqual(browser.granted["browserName"], "chrome")
""",
        browsers=(LONG,),
        more=f"""
    [browser.{LONG}]
    engine = "chromium"
    window = "1000x640"
    device_pixels = 2.0
    language = "de"
    user_agent = "Quay 1"
    time_zone = "Asia/Tokyo"
""",
    )
    run = folder.run()
    assert result(run, "test_sees", LONG)["outcome"] == "passed", run.out
    for message in (
        f"the suite requests browserName 'firefox'; it gets browser '{LONG}'",
        f"the suite's moz:firefoxOptions does not apply to browser '{LONG}'",
        f"the suite requests --window-size=7,7; browser '{LONG}' uses its own",
        "suite pages did not close 1 browser session; closed automatically at its end",
    ):
        assert message in " ".join(run.out.split())


@needs("webkit")
def test_a_window_that_cannot_be_so_small_is_said(suite):
    folder = suite(
        """
def test_opens(self):
    Browser().open("quay")
""",
        browsers=("small",),
        more="""
    [browser.small]
    engine = "webkit"
    window = "200x300"
""",
    )
    run = folder.run()
    assert result(run, "test_opens", "small")["outcome"] == "passed", run.out
    assert re.search(r"browser 'small': the page is \d+x300, not 200x300", run.out)


@needs("chromium")
@needs("firefox")
def test_browsers_are_chosen_like_tags(suite):
    folder = suite("def test_is(self):\n    pass\n", browsers=("chromium", "firefox"))
    both = folder.run("--browser", "all")
    assert sorted(both.outcomes) == [f"{PLACE} test_is @chromium", f"{PLACE} test_is @firefox"]
    assert re.search(r"test_is +passed +passed", both.out)
    assert list(folder.run("--pick", "not browser:firefox").outcomes) == [
        f"{PLACE} test_is @chromium"
    ]
    assert list(folder.run(f"{PLACE} test_is @firefox").outcomes) == [f"{PLACE} test_is @firefox"]
    wrong = folder.call("run", "--browser", "firefux")
    assert (wrong.code, "did you mean firefox?" in wrong.err) == (2, True)
    listed = folder.call("list", "--browser", "firefox")
    assert "test_quay.py @firefox" in listed.out and "@chromium" not in listed.out
    assert (
        "browser:"
        in folder.call("explain", f"{PLACE} test_is @firefox", "--browser", "chromium").out
    )


def test_a_browser_that_is_not_here_blocks_its_tests_alone(suite):
    folder = suite(
        "def test_is(self):\n    pass\n",
        browsers=("old", "far"),
        more="""
    [browser.old]
    engine = "chromium"
    driver = "no-such-driver"

    [browser.far]
    engine = "other"
    url = "http://127.0.0.1:1"
""",
    )
    run = folder.run()
    told = result(run, "test_is", "old")
    assert (run.code, told["outcome"]) == (4, "blocked")
    assert told["message"].startswith("browser 'old': no-such-driver not found; install ")
    assert result(run, "test_is", "far")["outcome"] == "passed"
    shown = folder.call("browsers", "--as", "json")
    results = {browser["name"]: browser for browser in json.loads(shown.out)}
    assert shown.code == 4 and "no-such-driver" in results["old"]["problem"]
    assert "missing  browser old" in folder.call("doctor").out


KILL = """
    import contextlib, psutil
    run = psutil.Process().parent()
    for each in run.children(recursive=True):
        with contextlib.suppress(psutil.Error):
            if any(name in each.name() for name in ("chromium", "firefox", "MiniBrowser")):
                each.kill()
    browser("GET", "/title")
"""


@pytest.mark.parametrize("engine", [pytest.param(e, marks=needs(e)) for e in ENGINES])
def test_a_killed_browser_costs_one_test(suite, engine):
    body = f"""
def test_a(self):
    browser = Browser()
    browser.open("quay")
{KILL.strip(chr(10))}
def test_b(self):
    Browser().open("quay")
def test_c(self):
    Browser().open("quay")
"""
    run = suite(body, browsers=(engine,)).run("-j1")
    told = result(run, "test_a", engine)
    assert told["outcome"] == "errored"
    assert told["message"].startswith(f"browser '{engine}' is no longer running: ")
    for name in ("test_b", "test_c"):
        told = result(run, name, engine)
        assert told["outcome"] == "passed", told["message"]


@chromium
def test_a_killed_browser_is_told_even_if_the_test_catches_the_error(suite):
    body = f"""
def test_a(self):
    try:
        browser = Browser()
        browser.open("quay")
{indent(KILL.strip(chr(10)), "    ")}
    except Exception:
        pass
def test_b(self):
    browser = Browser()
    browser.open("quay")
    browser("DELETE", "/window")
"""
    run = suite(body).run("-j1")
    told = result(run, "test_a")
    assert (told["outcome"], "the test passed without it" in told["message"]) == ("errored", True)
    assert result(run, "test_b")["outcome"] == "passed", "the suite closed that one"


@chromium
@pytest.mark.parametrize(
    ("body", "outcome", "said"),
    [
        ("browser.open('never')", "timed out", "the test ran longer than 8 s"),
        (
            "browser.run('setTimeout(() => alert(1))')\n    while True: browser('GET', '/title')",
            "errored",
            "unexpected alert open",
        ),
    ],
)
def test_what_befalls_a_browser_costs_one_test(suite, body, outcome, said):
    folder = suite(
        f"""
def test_a(self):
    browser = Browser()
    browser.open("quay")
    {body}
def test_b(self):
    browser = Browser()
    browser.open("quay")
    self.assertEqual(browser("GET", "/title"), "Quay")
""",
        limit="8s" if outcome == "timed out" else "60s",
    )
    run = folder.run("-j1", WOLFBANE_TEST_MARK=str(folder.path))
    told = result(run, "test_a")
    if outcome == "timed out":
        assert re.search(r"was still executing a command: open http://\S+/never$", told["message"])
    assert (told["outcome"], said in told["message"]) == (outcome, True), told["message"]
    assert result(run, "test_b")["outcome"] == "passed"
    assert folder.processes() == []


FAKE = '''
    """A driver that starts, and opens no session: its browser is of another version."""
    import http.server, json, sys, time


    class Driver(http.server.BaseHTTPRequestHandler):
        def answer(self, status, value):
            body = json.dumps({"value": value}).encode()
            self.send_response(status)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def do_GET(self):
            self.answer(200, {"ready": True})

        def do_POST(self):
            if "slow" in sys.argv:
                time.sleep(60)
            self.answer(500, {"error": "session not created",
                              "message": "this driver only supports version 90"})

        def log_message(self, *told):
            pass


    http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Driver).serve_forever()
'''


def write_driver(folder):
    """Write the driver, and its place into the settings."""
    fake = folder.file("driver.py", FAKE)
    text = (folder.path / "wolfbane.toml").read_text().replace("{here}", str(fake))
    (folder.path / "wolfbane.toml").write_text(text)


def test_a_driver_that_opens_nothing_blocks(suite):
    folder = suite(
        "def test_is(self):\n    Browser()\n",
        browsers=("odd",),
        more="""
    [browser.odd]
    engine = "other"
    driver = ["python3", "{here}", "{port}"]
""",
    )
    write_driver(folder)
    told = result(folder.run(), "test_is", "odd")
    assert (told["outcome"], "only supports version 90" in told["message"]) == ("blocked", True)


@chromium
@pytest.mark.skipif(os.geteuid() != 0, reason="only root can make a small disk")
def test_no_room_for_a_profile_blocks(suite):
    folder = suite("def test_is(self):\n    Browser()\n")
    with tempfile.TemporaryDirectory() as path:
        small = ["mount", "-t", "tmpfs", "-o", "size=1m", "none", path]
        if subprocess.run(small, check=False).returncode:
            pytest.skip("a small disk cannot be made here")
        try:
            told = result(folder.run(TMPDIR=path), "test_is")
        finally:
            subprocess.run(["umount", path], check=True)
    said = "browser 'chromium': not enough disk space for a profile in "
    assert (told["outcome"], told["message"].startswith(said)) == ("blocked", True)


@chromium
def test_a_path_too_long_for_sockets_blocks(suite, tmp_path):
    folder = suite("def test_is(self):\n    Browser()\n")
    path = tmp_path / ("long" * 15)
    path.mkdir()
    told = result(folder.run(TMPDIR=str(path)), "test_is")
    said = "browser 'chromium': the path of the folder for temporary files is too long: "
    assert told["outcome"] == "blocked"
    assert told["message"] == f"{said}{path} (set TMPDIR to a shorter one)"


def test_a_driver_that_never_opens_blocks(suite):
    folder = suite(
        "def test_is(self):\n    Browser()\n",
        browsers=("odd",),
        limit="2s",
        more="""
    [browser.odd]
    engine = "other"
    driver = ["python3", "{here}", "{port}", "slow"]
""",
    )
    write_driver(folder)
    told = result(folder.run(), "test_is", "odd")
    said = r"browser .odd. was still not open after \d+ s"
    assert told["outcome"] == "blocked"
    assert re.fullmatch(said, told["message"])


@chromium
def test_a_driver_elsewhere_is_spoken_to_by_its_address(suite):
    from wolfbane.browsers.engines.drivers import free_port

    port = free_port()
    options = '{ args = ["--headless=new", "--no-sandbox", "--disable-gpu"] }'
    folder = suite(
        """
def test_goes(self):
    browser = Browser()
    browser.open("quay")
    self.assertEqual(browser("GET", "/title"), "Quay")
""",
        browsers=("grid",),
        more=f"""
    [browser.grid]
    engine = "chromium"
    url = "http://127.0.0.1:{port}"
    capabilities = {{ "goog:chromeOptions" = {options} }}
""",
    )
    with subprocess.Popen(["chromedriver", f"--port={port}"], stdout=subprocess.DEVNULL) as grid:
        run = folder.run()
        grid.kill()
    assert set(run.outcomes.values()) == {"passed"}, run.out


@chromium
def test_the_endpoint_is_for_its_worker_alone(suite):
    folder = suite(
        """
def test_keeps_others_out(self):
    import http.client
    from urllib.parse import urlsplit
    place = urlsplit(ROOT)
    self.assertEqual(place.hostname, "127.0.0.1")
    def ask(path, **headers):
        line = http.client.HTTPConnection(place.hostname, place.port)
        line.request("GET", path, headers=headers)
        return line.getresponse().status
    self.assertEqual(ask(place.path + "/status"), 200)
    self.assertEqual(ask("/status"), 404)
    self.assertEqual(ask("/another" + place.path + "/status"), 404)
    self.assertEqual(ask(place.path + "/status", Host="quay.example"), 403)
"""
    )
    run = folder.run()
    assert set(run.outcomes.values()) == {"passed"}, run.out


@chromium
def test_sessions_are_fresh_and_leave_nothing(suite):
    folder = suite(
        """
def visit(self):
    browser = Browser()
    browser.open("quay")
    self.assertEqual(browser("GET", "/cookie"), [])
    browser("POST", "/cookie", cookie={"name": "berth", "value": "A1"})
def test_a(self):
    self.visit()
def test_b(self):
    self.visit()
"""
    )
    with tempfile.TemporaryDirectory() as listener:  # sockets want short paths
        run = folder.run(TMPDIR=listener, WOLFBANE_TEST_MARK=str(folder.path))
        assert list(Path(listener).iterdir()) == []
    assert set(run.outcomes.values()) == {"passed"}, run.out
    assert "did not close its browser session" in run.out
    assert folder.processes() == []


@chromium
def test_bidi_goes_through(suite):
    folder = suite(
        """
def test_talks(self):
    import asyncio, aiohttp
    browser = Browser(webSocketUrl=True)
    async def ask():
        async with aiohttp.ClientSession() as client:
            async with client.ws_connect(browser.granted["webSocketUrl"]) as line:
                await line.send_json({"id": 1, "method": "browsingContext.getTree", "params": {}})
                return await line.receive_json()
    told = asyncio.run(ask())
    self.assertEqual((told["id"], len(told["result"]["contexts"])), (1, 1))
"""
    )
    run = folder.run(VIRTUAL_ENV=sys.prefix)  # with its aiohttp
    assert set(run.outcomes.values()) == {"passed"}, run.out


@pytest.mark.parametrize(
    ("line", "message"),
    [
        ('[browser.a]\nengine = "chromum"', "unknown engine 'chromum'; did you mean chromium?"),
        ('[browser.a]\nengine = "other"', "set 'driver' or 'url'"),
        ('[browser.a]\nengine = "webkit"\nwindow = "wide"', "write width and height"),
        ('[browser.a]\nengine = "webkit"\nwindw = ""', "unknown key 'windw'; did you mean window?"),
    ],
)
def test_settings_that_are_wrong(suite, line, message):
    folder = suite("def test_is(self):\n    pass\n", more="\n" + line)
    run = folder.call("run")
    assert (run.code, message in run.err) == (2, True), run.err


def test_a_suite_names_browsers_that_exist(suite):
    folder = suite("def test_is(self):\n    pass\n", browsers=("firefux",))
    run = folder.call("run")
    assert (run.code, "there is no browser 'firefux'; did you mean firefox?" in run.err) == (
        2,
        True,
    )
