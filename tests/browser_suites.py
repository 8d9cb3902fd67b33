"""Suites in browsers for tests: a server of pages, a small client, and what is here."""

from __future__ import annotations

import http.server
import threading
import time

import pytest

from wolfbane.browsers.engines.discovery import installed, needs_screen
from wolfbane.browsers.failures import CannotOpen
from wolfbane.workspace.settings import Browser

ENGINES = ("chromium", "firefox", "webkit")


def needs(engine):
    """A mark that skips a test where a browser is not installed."""
    try:
        installed(engine, Browser(engine))
        missing = needs_screen(Browser(engine))
    except CannotOpen:
        missing = True
    return pytest.mark.skipif(missing, reason=f"{engine} is not here")


CLIENT = """
    import json, os, urllib.error, urllib.request

    ELEMENT = "element-6066-11e4-a52e-4f735466cecf"
    ROOT = os.environ["ENDPOINT"]
    PAGES = os.environ["PAGES"]


    class Failed(Exception):
        pass


    def send(method, path, body=None):
        data = None if method == "GET" else json.dumps(body or {}).encode()
        request = urllib.request.Request(ROOT + path, data, method=method)
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                return json.load(answer)["value"]
        except urllib.error.HTTPError as error:
            told = json.load(error)["value"]
            raise Failed(f"{told['error']}: {told['message']}") from None


    class Browser:
        def __init__(self, **asked):
            opened = send("POST", "/session", {"capabilities": {"alwaysMatch": asked}})
            self.granted, self.path = opened["capabilities"], f"/session/{opened['sessionId']}"

        def __call__(self, method, path="", **body):
            return send(method, self.path + path, body)

        def open(self, page):
            self("POST", "/url", url=f"{PAGES}/{page}")

        def find(self, css):
            return self("POST", "/element", using="css selector", value=css)[ELEMENT]

        def run(self, script):
            return self("POST", "/execute/sync", script=script, args=[])
"""
SETTINGS = """
    [[suite]]
    name = "pages"
    kind = "python"
    paths = ["pages"]
    timeout = "{limit}"
    browsers = {browsers}
    webdriver = {{ url = "ENDPOINT", downloads = "LANDED" }}
    env = {{ PAGES = "{pages}" }}
    {more}
"""
PAGE = b"""<!doctype html><html lang=en><meta charset=utf-8><title>Quay</title>
<link rel=icon href="data:,"><h1 id=head>Saltmarsh quay</h1><p id=berth-list>Berths</p>
<input id=word type=password><input id=crew><button id=book>Book a berth</button>
<img src=/lost.png alt="">
<script>console.error('the gauge is silent')</script></html>"""


class _Desk(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        if self.path == "/never":
            time.sleep(60)
        self.send_response(404 if self.path == "/lost.png" else 200)
        kind = "application/octet-stream" if self.path == "/tides.bin" else "text/html"
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(PAGE)))
        self.end_headers()
        self.wfile.write(PAGE)

    def log_message(self, *told):
        pass


@pytest.fixture(scope="module")
def pages():
    """The address of a server of pages."""
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Desk)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


@pytest.fixture
def suite(folder, pages):
    """A folder in which ``suite(body, ...)`` writes a suite of one class of tests."""

    def write(body, browsers=("chromium",), limit="60s", more=""):
        listed = "[" + ", ".join(f'"{name}"' for name in browsers) + "]"
        folder.file(
            "wolfbane.toml",
            SETTINGS.format(browsers=listed, pages=pages, limit=limit, more=more),
        )
        folder.file("pages/client.py", CLIENT)
        head = "import os, signal, time, unittest\nfrom client import *\n\n\n"
        lines = [f"    {line}".rstrip() for line in body.strip("\n").splitlines()]
        source = f"{head}class Quay(unittest.TestCase):\n" + "\n".join(lines) + "\n"
        (folder.path / "pages" / "test_quay.py").write_text(source, encoding="utf-8")
        return folder

    return write
