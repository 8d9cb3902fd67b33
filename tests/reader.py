"""A real browser that opens a report as its reader does: Chromium over W3C WebDriver."""

from __future__ import annotations

import base64
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

_ELEMENT = "element-6066-11e4-a52e-4f735466cecf"
_FLAGS = [
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--hide-scrollbars",
]
# The address changes first. The page follows it in a task of its own, which may be late.
_FOLLOWED = """
if (window.followed === undefined) {
  window.followed = location.hash;
  addEventListener("hashchange", () => { window.followed = location.hash; });
}
"""
_SETTLED = """
return new Promise((done) => {
  const settled = () => (window.followed ?? location.hash) === location.hash;
  const look = () => settled() ? done() : setTimeout(look);
  look();
});
"""
_PHONE = 600
"""Columns of pixels below which a screen is a phone's."""
KEYS = {
    "Escape": "\ue00c",
    "Enter": "\ue007",
    "Down": "\ue015",
    "Left": "\ue012",
    "Right": "\ue014",
}


class Reader:
    """One session."""

    def __init__(self) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        self._driver = subprocess.Popen(
            ["chromedriver", f"--port={port}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        self._http = httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=60)

    def __enter__(self) -> Reader:
        limit = time.monotonic() + 30
        while time.monotonic() < limit:
            try:
                if self._http.get("/status").json()["value"]["ready"]:
                    break
            except httpx.TransportError:
                time.sleep(0.05)
        wanted = {
            "alwaysMatch": {
                "goog:chromeOptions": {"args": _FLAGS},
                "goog:loggingPrefs": {"browser": "ALL"},
            }
        }
        opened = self._http.post("/session", json={"capabilities": wanted}).json()["value"]
        self._session = f"/session/{opened['sessionId']}"
        self.like()
        return self

    def __exit__(self, *_: object) -> None:
        self._http.delete(self._session)
        self._driver.kill()
        self._driver.wait()

    def _send(self, path: str, **body: Any) -> Any:
        answer = self._http.post(self._session + path, json=body).json()["value"]
        assert not (isinstance(answer, dict) and "error" in answer), answer
        return answer

    def like(self, *, dark: bool = False, size: tuple[int, int] = (1280, 800)) -> None:
        """Have a screen of this size, and like pages dark or light. Starts on an empty page."""
        self.open("about:blank")
        self.complaints()  # those of a page before are not of the next one
        feature = {"name": "prefers-color-scheme", "value": "dark" if dark else "light"}
        metrics = {"width": size[0], "height": size[1], "deviceScaleFactor": 1}
        for command, parameters in {
            "setEmulatedMedia": {"features": [feature]},
            "setDeviceMetricsOverride": {**metrics, "mobile": size[0] < _PHONE},
            "setTouchEmulationEnabled": {"enabled": size[0] < _PHONE},
        }.items():
            self._send("/goog/cdp/execute", cmd=f"Emulation.{command}", params=parameters)

    def open(self, page: Path | str, fragment: str = "") -> None:
        """Open a file as a page."""
        self._send("/url", url=(page.as_uri() if isinstance(page, Path) else page) + fragment)
        self.js(_FOLLOWED + _SETTLED)

    def js(self, script: str, *arguments: object) -> Any:
        """What a script returns."""
        return self._send("/execute/sync", script=script, args=list(arguments))

    def click(self, css: str) -> None:
        """Click what is found first."""
        result = self._send("/element", using="css selector", value=css)[_ELEMENT]
        self._send(f"/element/{result}/click")
        self.js(_SETTLED)

    def press(self, *keys: str) -> None:
        """Press keys, one after the other."""
        actions = [
            {"type": kind, "value": KEYS.get(key, key)}
            for key in keys
            for kind in ("keyDown", "keyUp")
        ]
        self._send("/actions", actions=[{"type": "key", "id": "keys", "actions": actions}])
        self.js(_SETTLED)

    def text(self, css: str) -> str:
        """The text that is seen there; nothing where there is no such thing."""
        return str(self.js("return document.querySelector(arguments[0])?.innerText ?? ''", css))

    def texts(self, css: str) -> list[str]:
        """The texts that are seen of all there are."""
        result = "return [...document.querySelectorAll(arguments[0])]"
        return list(self.js(f"{result}.map((e) => e.innerText || e.textContent)", css))

    def complaints(self) -> list[str]:
        """What the page's console says went wrong."""
        return [entry["message"] for entry in self._send("/se/log", type="browser")]

    def picture(self, path: Path) -> None:
        """Keep what is seen."""
        shot = self._http.get(self._session + "/screenshot").json()["value"]
        path.write_bytes(base64.b64decode(shot))


@pytest.fixture(scope="module")
def browser_to_read() -> Iterator[Reader]:
    """One browser for the tests of a file: its start takes longer than most of them."""
    with Reader() as opened:
        yield opened


@pytest.fixture
def reader(browser_to_read: Reader) -> Reader:
    """A reader at a desk, by day, on an empty page."""
    browser_to_read.like()
    return browser_to_read
