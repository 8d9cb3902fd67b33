"""A browser through W3C WebDriver, with nothing but the standard library."""

import json
import os
import time
import urllib.error
import urllib.request

ELEMENT = "element-6066-11e4-a52e-4f735466cecf"


class Browser:
    def __init__(self):
        self.root = os.environ["HARBOUR_DRIVER"]
        opened = self._send("POST", "/session", {"capabilities": {"alwaysMatch": {}}})
        self.session = f"/session/{opened['sessionId']}"

    def _send(self, method, path, body=None):
        data = None if method == "GET" else json.dumps(body or {}).encode()
        request = urllib.request.Request(self.root + path, data, method=method)
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                return json.load(answer)["value"]
        except urllib.error.HTTPError as error:
            problem = json.load(error)["value"]
            raise LookupError(f"{problem['error']}: {problem['message']}") from None

    def __call__(self, method, path, body=None):
        return self._send(method, self.session + path, body)

    def open(self, page):
        self("POST", "/url", {"url": f"{os.environ['HARBOUR_URL']}/pages/{page}"})

    def find(self, css, wait=5.0):
        end = time.monotonic() + wait
        while True:
            try:
                return self("POST", "/element", {"using": "css selector", "value": css})[ELEMENT]
            except LookupError:
                if time.monotonic() > end:
                    raise
                time.sleep(0.05)

    def text(self, css):
        return self("GET", f"/element/{self.find(css)}/text")

    def click(self, css):
        self("POST", f"/element/{self.find(css)}/click")

    def type(self, css, text):
        self("POST", f"/element/{self.find(css)}/value", {"text": text})

    def quit(self):
        self("DELETE", "")
