"""Faults in browsers: a test's browser or its driver is killed, or stops, at some moment."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Mapping, Sequence

from benchmarks.faults.scene import Scene

# Firefox takes longer to start than a draw may, on a busy machine. Its tests are in tests/.
_IS_HERE = all(map(shutil.which, ("chromium", "chromedriver")))
_CLIENT = """
import json, os, signal, threading, time, unittest, urllib.error, urllib.request

class Browser:
    def __init__(self):
        self.path = ""
        opened = self.send("POST", "/session", {"capabilities": {"alwaysMatch": {}}})
        self.path, granted = f"/session/{opened['sessionId']}", opened["capabilities"]
        self.process = granted["goog:processID"]

    def send(self, method, path, body=None):
        data = None if method == "GET" else json.dumps(body or {}).encode()
        request = urllib.request.Request(os.environ["ENDPOINT"] + self.path + path, data)
        request.method = method
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                return json.load(answer)["value"]
        except urllib.error.HTTPError as error:
            raise LookupError(json.load(error)["value"]["message"]) from None

    def look(self):
        self.send("POST", "/url", {"url": "data:text/html,<title>Quay</title>"})
        assert self.send("GET", "/title") == "Quay"

    def hit(self, number=signal.SIGKILL):
        os.kill(self.process, number)

    def hit_driver(self, number=signal.SIGKILL):
        with open(f"/proc/{self.process}/stat") as file:
            os.kill(int(file.read().rpartition(")")[2].split()[1]), number)
"""
_RIGHT: Sequence[str] = (
    "Browser().look()",
    "b = Browser()\n        b.look()\n        b.send('DELETE', '')",
    "Browser().look(); Browser().look()",
)
_GONE, _LOST = ("errored", "failed"), ("errored", "failed", "timed out")
_MOMENTS: Sequence[tuple[str, Sequence[str]]] = (
    ("b = Browser()\n        b.{how}()\n        b.look()", _GONE),
    ("b = Browser()\n        b.look()\n        b.{how}()", ("passed",)),
    ("b = Browser()\n        b.look()\n        b.{how}()\n        Browser().look()", ("passed",)),
    (
        "b = Browser()\n        threading.Timer(0.05, b.{how}).start()\n"
        "        [b.look() for _ in range(400)]",
        _GONE,
    ),
)
_STOPPED = ("b = Browser()\n        b.{how}(signal.SIGSTOP)\n        b.look()", _LOST)


def browser_scene(
    how: str, moments: Sequence[tuple[str, Sequence[str]]]
) -> Callable[[Scene], None]:
    """What puts a suite in a browser into a scene, with a test that does ``how`` to its own."""

    def add(scene: Scene) -> None:
        body, outcomes = scene.rng.choice(moments)
        scene.suite("pages", "python", 'browsers = ["chromium"]\nwebdriver = { url = "ENDPOINT" }')
        scene.arguments += ["--timeout", "20s"]
        scene.limit *= 2
        count = scene.rng.randint(2, 4)
        position = scene.rng.randrange(count)
        lines = [_CLIENT, "class Quay(unittest.TestCase):"]
        for number in range(count):
            mine = number == position
            does = body.format(how=how) if mine else scene.rng.choice(_RIGHT)
            lines += [f"    def test_{number}(self):", f"        {does}"]
            address = f"pages/test_quay.py#Quay / test_{number} @chromium"
            scene.expect(address, *(outcomes if mine else ("passed",)), own=mine)
        scene.file("pages/test_quay.py", "\n".join(lines) + "\n")

    return add


DRAWS: Mapping[str, Callable[[Scene], None]] = (
    {
        "a browser is killed": browser_scene("hit", _MOMENTS),
        "a browser's driver is killed": browser_scene("hit_driver", _MOMENTS),
        "a browser hangs": browser_scene("hit", [_STOPPED]),
        "a browser's driver hangs": browser_scene("hit_driver", [_STOPPED]),
    }
    if _IS_HERE
    else {}
)
