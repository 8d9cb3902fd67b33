"""Calls every endpoint of W3C WebDriver once, with nothing but the standard library.

Copied into a workspace and run there in each browser. What each call came to is written down
by method and path, for the tests outside.
"""

import base64
import http.client
import http.server
import json
import os
import threading
import time
import unittest
from pathlib import Path
from typing import ClassVar
from urllib.parse import urlsplit

ELEMENT = "element-6066-11e4-a52e-4f735466cecf"
SHADOW = "shadow-6066-11e4-a52e-4f735466cecf"
PAGE = b"""<!doctype html><html lang=en><meta charset=utf-8><title>Quay</title>
<h1 id=head class="wide big" style="color: rgb(1, 2, 3)">Saltmarsh quay</h1>
<form><input id=boat name=boat value=Heron aria-label="Boat's name"><input id=tick type=checkbox>
<button id=go type=button onclick="document.title='went'">Go</button></form>
<div id=host></div><iframe id=inner src="/frame"></iframe><a id=next href="/next">next</a>
<script>const root = document.getElementById('host').attachShadow({mode: 'open'});
root.innerHTML = '<p id=deep>deep</p><p>deeper</p>';</script></html>"""
PAGES = {
    "/": PAGE,
    "/next": b"<!doctype html><title>Next</title><p>next</p>",
    "/frame": b"<!doctype html><title>Frame</title><p id=within>within</p>",
}

OTHERWISE = {
    "chromium": {"unknown method"},
    "webkit": {"unknown method", "invalid cookie domain", "no such shadow root"},
}
"""Errors of the standard for which a driver has another one of its own."""


class Pages(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        body = PAGES.get(self.path, b"")
        self.send_response(200 if body else 404)
        self.send_header("Content-Type", "text/html")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *told):
        pass


class Failed(Exception):
    pass


class Endpoints(unittest.TestCase):
    told: ClassVar[dict[str, str]] = {}

    @classmethod
    def setUpClass(cls):
        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Pages)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        cls.addClassCleanup(server.shutdown)
        cls.root = f"http://127.0.0.1:{server.server_port}"
        url = urlsplit(os.environ["ENDPOINT"])
        cls.line = http.client.HTTPConnection(url.hostname, url.port, timeout=60)
        cls.base = url.path
        cls.session = ""
        opened = cls.send("POST", "/session", {"capabilities": {"alwaysMatch": {}}})
        cls.session = f"/session/{opened['sessionId']}"
        cls.addClassCleanup(cls.end)

    @classmethod
    def end(cls):
        cls.call("DELETE", "")
        folder = Path(os.environ["TOLD"], os.environ["BROWSER_NAME"] + ".json")
        folder.write_text(json.dumps(cls.told))

    @classmethod
    def send(cls, method, path, body=None):
        cls.line.request(method, cls.base + path, None if body is None else json.dumps(body))
        answer = cls.line.getresponse()
        value = json.loads(answer.read())["value"]
        key = f"{method} {path.removeprefix(cls.session).lstrip('/') if cls.session else ''}"
        if answer.status == 200:
            cls.told[key] = "yes"
            return value
        cls.told.setdefault(key, value["error"])
        raise Failed(value["error"], answer.status, value["message"])

    @classmethod
    def call(cls, method, path, **body):
        return cls.send(method, cls.session + path, body if method == "POST" else None)

    def setUp(self):
        self.call("POST", "/url", url=self.root + "/")

    def find(self, css):
        return self.call("POST", "/element", using="css selector", value=css)[ELEMENT]

    def of(self, element, what):
        return self.call("GET", f"/element/{element}/{what}")

    def test_status_and_limits(self):
        self.assertTrue(self.send("GET", "/status")["ready"])
        self.call("POST", "/timeouts", implicit=50, script=7000)
        limits = self.call("GET", "/timeouts")
        self.assertEqual((limits["implicit"], limits["script"]), (50, 7000))
        self.call("POST", "/timeouts", implicit=0, script=30000)

    def test_going_places(self):
        self.call("POST", "/url", url=self.root + "/next")
        self.assertEqual(self.call("GET", "/title"), "Next")
        self.call("POST", "/back")
        self.assertEqual(self.call("GET", "/url"), self.root + "/")
        self.call("POST", "/forward")
        self.call("POST", "/refresh")
        self.assertEqual(self.call("GET", "/url"), self.root + "/next")

    def test_windows(self):
        first = self.call("GET", "/window")
        made = self.call("POST", "/window/new", type="tab")
        self.assertEqual(
            sorted(self.call("GET", "/window/handles")), sorted([first, made["handle"]])
        )
        self.call("POST", "/window", handle=made["handle"])
        self.assertEqual(self.call("DELETE", "/window"), [first])
        self.call("POST", "/window", handle=first)

    def test_window_sizes(self):
        self.call("POST", "/window/rect", width=900, height=700)
        rect = self.call("GET", "/window/rect")
        self.assertEqual((rect["width"], rect["height"]), (900, 700))
        for way in ("maximize", "fullscreen", "minimize"):
            try:
                self.assertIn("width", self.call("POST", f"/window/{way}"))
            except Failed as failed:
                self.assertEqual(failed.args[0], "unsupported operation")
        self.call("POST", "/window/rect", width=900, height=700)

    def test_frames(self):
        self.call("POST", "/frame", id=0)
        self.assertEqual(self.of(self.find("#within"), "text"), "within")
        self.call("POST", "/frame/parent")
        self.call("POST", "/frame", id={ELEMENT: self.find("#inner")})
        self.find("#within")
        self.call("POST", "/frame", id=None)
        with self.assertRaisesRegex(Failed, "no such element.*404"):
            self.find("#within")

    def test_finding(self):
        form = self.find("form")
        all_found = self.call("POST", "/elements", using="xpath", value="//input")
        self.assertEqual(len(all_found), 2)
        inside = self.call("POST", f"/element/{form}/element", using="tag name", value="button")
        result = self.call("POST", f"/element/{form}/elements", using="css selector", value="input")
        self.assertEqual(len(result), 2)
        self.assertEqual(self.of(inside[ELEMENT], "text"), "Go")
        link = self.call("POST", "/element", using="link text", value="next")
        self.assertEqual(self.of(link[ELEMENT], "name").lower(), "a")

    def test_shadows(self):
        root = self.of(self.find("#host"), "shadow")[SHADOW]
        deep = self.call("POST", f"/shadow/{root}/element", using="css selector", value="#deep")
        self.assertEqual(self.of(deep[ELEMENT], "text"), "deep")
        both = self.call("POST", f"/shadow/{root}/elements", using="css selector", value="p")
        self.assertEqual(len(both), 2)

    def test_what_elements_say(self):
        head, boat, tick = self.find("#head"), self.find("#boat"), self.find("#tick")
        self.assertEqual(self.of(head, "attribute/class"), "wide big")
        self.assertEqual(self.of(boat, "property/value"), "Heron")
        self.assertIn("1, 2, 3", self.of(head, "css/color"))
        self.assertEqual(self.of(head, "name").lower(), "h1")
        self.assertGreater(self.of(head, "rect")["width"], 50)
        self.assertIs(self.of(boat, "enabled"), True)
        self.assertIs(self.of(tick, "selected"), False)
        self.assertEqual(self.of(head, "text"), "Saltmarsh quay")
        for what, expected in (("computedrole", "textbox"), ("computedlabel", "Boat's name")):
            self.assertEqual(self.of(boat, what), expected)

    def test_doing_things(self):
        boat = self.find("#boat")
        self.call("POST", f"/element/{boat}/clear")
        self.call("POST", f"/element/{boat}/value", text="Grey Heron \u20ac")
        self.assertEqual(self.of(boat, "property/value"), "Grey Heron \u20ac")
        self.assertEqual(self.call("GET", "/element/active")[ELEMENT], boat)
        self.call("POST", f"/element/{self.find('#go')}/click")
        self.assertEqual(self.call("GET", "/title"), "went")

    def test_actions(self):
        origin = {ELEMENT: self.find("#tick")}
        steps = [
            {"type": "pointerMove", "origin": origin, "x": 0, "y": 0},
            {"type": "pointerDown", "button": 0},
            {"type": "pointerUp", "button": 0},
        ]
        pointer = {"type": "pointer", "id": "mouse", "actions": steps}
        self.call("POST", "/actions", actions=[pointer])
        self.call("DELETE", "/actions")
        self.assertIs(self.of(self.find("#tick"), "selected"), True)

    def test_scripts_and_source(self):
        double = "return {n: arguments[0] * 2, list: [document.title]}"
        self.assertEqual(
            self.call("POST", "/execute/sync", script=double, args=[21]),
            {"n": 42, "list": ["Quay"]},
        )
        later = "const done = arguments[0]; setTimeout(() => done('later'), 20)"
        self.assertEqual(self.call("POST", "/execute/async", script=later, args=[]), "later")
        self.assertIn("Saltmarsh quay", self.call("GET", "/source"))
        with self.assertRaisesRegex(Failed, "javascript error.*500"):
            self.call("POST", "/execute/sync", script="throw new Error('no')", args=[])

    def test_cookies(self):
        self.call("POST", "/cookie", cookie={"name": "berth", "value": "A1"})
        self.call("POST", "/cookie", cookie={"name": "boat", "value": "Heron"})
        self.assertEqual(len(self.call("GET", "/cookie")), 2)
        self.assertEqual(self.call("GET", "/cookie/berth")["value"], "A1")
        with self.assertRaisesRegex(Failed, "no such cookie.*404"):
            self.call("GET", "/cookie/none")
        self.call("DELETE", "/cookie/berth")
        self.call("DELETE", "/cookie")
        # WebKit's driver has answered before the last cookie was gone, once, on a busy machine.
        until = time.monotonic() + 5
        while self.call("GET", "/cookie") and time.monotonic() < until:
            pass
        self.assertEqual(self.call("GET", "/cookie"), [])

    def test_dialogs(self):
        for script, finish in (("alert('tide!')", "accept"), ("confirm('tide?')", "dismiss")):
            self.call("POST", "/execute/sync", script=f"setTimeout(() => {script})", args=[])
            self.assertIn("tide", self.dialog())
            self.call("POST", f"/alert/{finish}")
        prompt = "setTimeout(() => { document.title = prompt('boat?') })"
        self.call("POST", "/execute/sync", script=prompt, args=[])
        self.dialog()
        self.call("POST", "/alert/text", text="Heron")
        self.call("POST", "/alert/accept")
        self.wait_for(lambda: self.call("GET", "/title") == "Heron")
        with self.assertRaisesRegex(Failed, "no such alert.*404"):
            self.call("GET", "/alert/text")

    def wait_for(self, done):
        end = time.monotonic() + 10
        while not done():
            self.assertLess(time.monotonic(), end)

    def dialog(self):
        end = time.monotonic() + 10
        while True:
            try:
                return self.call("GET", "/alert/text")
            except Failed:
                if time.monotonic() > end:
                    raise

    def test_pictures_and_print(self):
        png = b"\x89PNG"
        self.assertTrue(base64.b64decode(self.call("GET", "/screenshot")).startswith(png))
        of_head = self.of(self.find("#head"), "screenshot")
        self.assertTrue(base64.b64decode(of_head).startswith(png))
        try:
            printed = base64.b64decode(self.call("POST", "/print"))
            self.assertTrue(printed.startswith(b"%PDF"))
        except Failed as failed:
            self.assertIn(failed.args[0], ("unknown command", "unsupported operation"))

    def test_errors(self):
        """What each wrong call is answered (WebDriver, section "Errors")."""
        gone, root = self.find("#tick"), self.of(self.find("#host"), "shadow")[SHADOW]
        self.run_script("document.getElementById('tick').remove()")
        self.run_script("document.getElementById('host').remove()")
        self.run_script("document.getElementById('next').style.display = 'none'")
        self.run_script("""document.body.insertAdjacentHTML('afterbegin',
            '<div style="position: fixed; inset: 0; background: white"></div>')""")
        boat = self.find("#boat")
        far = {"type": "pointerMove", "x": 90_000, "y": 0}
        away = [{"type": "pointer", "id": "mouse", "actions": [far]}]
        by_css = {"using": "css selector", "value": "#no"}
        for error, status, method, path, body in (
            ("element click intercepted", 400, "POST", f"/element/{boat}/click", {}),
            ("element not interactable", 400, "POST", f"/element/{self.find('#next')}/click", {}),
            ("invalid argument", 400, "POST", "/url", {"url": 7}),
            (
                "invalid cookie domain",
                400,
                "POST",
                "/cookie",
                {"cookie": {"name": "berth", "value": "A1", "domain": "other.example"}},
            ),
            ("invalid element state", 400, "POST", f"/element/{self.find('#head')}/clear", {}),
            ("invalid selector", 400, "POST", "/element", {**by_css, "value": "##"}),
            ("javascript error", 500, "POST", "/execute/sync", {"script": "no()", "args": []}),
            ("move target out of bounds", 500, "POST", "/actions", {"actions": away}),
            ("no such alert", 404, "POST", "/alert/accept", {}),
            ("no such cookie", 404, "GET", "/cookie/none", None),
            ("no such element", 404, "POST", "/element", by_css),
            ("no such frame", 404, "POST", "/frame", {"id": 9}),
            ("no such window", 404, "POST", "/window", {"handle": "none"}),
            ("no such shadow root", 404, "POST", "/shadow/none/element", by_css),
            ("stale element reference", 404, "POST", f"/element/{gone}/click", {}),
            ("detached shadow root", 404, "POST", f"/shadow/{root}/element", by_css),
            ("unknown command", 404, "GET", "/tide", None),
            ("unknown method", 405, "PUT", "/url", None),
        ):
            if error in OTHERWISE.get(os.environ["BROWSER_NAME"], ()):
                continue
            with self.subTest(error), self.assertRaisesRegex(Failed, f"{error}.*{status}"):
                self.send(method, self.session + path, body)
        with self.assertRaisesRegex(Failed, "invalid session id.*404"):
            self.send("GET", "/session/none/url")
        self.call("POST", "/timeouts", script=50)
        with self.assertRaisesRegex(Failed, "script timeout.*500"):
            self.call("POST", "/execute/async", script="return 1", args=[])
        self.call("POST", "/timeouts", script=30000)
        self.run_script("setTimeout(() => alert('tide!'))")
        self.dialog()
        with self.assertRaisesRegex(Failed, "unexpected alert open.*500"):
            self.call("GET", "/title")

    def run_script(self, script):
        self.call("POST", "/execute/sync", script=script, args=[])
