"""The records of a browser: console lines and sent requests."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from wolfbane import __version__
from wolfbane.formats import har

_MOST = 20_000
"""Maximum number of lines and requests per session: a page can send requests all day."""


_PAGES = ("http:", "https:", "ws:", "wss:", "file:")
"""The requests of pages; a browser also loads its own parts."""


class ConsoleLine(msgspec.Struct):
    """A line of a page's console. ``at`` is in seconds since 1970."""

    at: float
    level: str
    text: str


class BrowserRequest(msgspec.Struct):
    """A request of a browser. ``at`` is in seconds since 1970; ``size`` in bytes, of its body.

    Without a response, ``status`` is 0. ``error`` is the reason for the failure, if the browser
    reports it.
    """

    at: float
    method: str
    url: str
    kind: str = ""
    status: int = 0
    seconds: float = 0.0
    size: int = 0
    error: str = ""
    http: str = ""
    sent: dict[str, str] = {}
    received: dict[str, str] = {}

    @property
    def has_failed(self) -> bool:
        """Whether the request got no response, or a response that reports an error."""
        return bool(self.error) or self.status >= 400


class BrowserRecords:
    """The console and the network of one session."""

    def __init__(self) -> None:
        self.console: list[ConsoleLine] = []
        self.requests: list[BrowserRequest] = []
        self._open: dict[str, tuple[BrowserRequest, float]] = {}
        """Requests in progress, with the time of the engine's own clock."""

    # --- Chromium: entries of the logs of its driver

    def add_console_entry(self, entry: Mapping[str, Any]) -> None:
        """An entry of chromedriver's log ``browser``."""
        level = str(entry.get("level", "")).lower()
        self._line(float(entry.get("timestamp", 0)) / 1000, level, str(entry.get("message", "")))

    def add_performance_entry(self, entry: Mapping[str, Any]) -> None:
        """An entry of chromedriver's log ``performance``: an event of the DevTools protocol."""
        try:
            message = json.loads(entry["message"])["message"]
            name, event = message["method"], message["params"]
        except (KeyError, TypeError, ValueError):
            return
        number = str(event.get("requestId", ""))
        if name == "Network.requestWillBeSent":
            if redirected := event.get("redirectResponse"):
                self._answered(number, redirected, float(event["timestamp"]))
                self._end(number, float(event["timestamp"]))
            request = event["request"]
            begun = BrowserRequest(
                at=float(event["wallTime"]),
                method=request["method"],
                url=request["url"],
                kind=str(event.get("type", "")).lower(),
                sent=_texts(request.get("headers")),
            )
            self._begin(number, begun, float(event["timestamp"]))
        elif name == "Network.responseReceived":
            self._answered(number, event["response"], float(event["timestamp"]))
        elif name == "Network.loadingFinished":
            if number in self._open:
                self._open[number][0].size = int(event.get("encodedDataLength", 0))
            self._end(number, float(event["timestamp"]))
        elif name == "Network.loadingFailed":
            if number in self._open:
                self._open[number][0].error = str(event.get("errorText", "")) or "failed"
            self._end(number, float(event["timestamp"]))

    def _answered(self, number: str, response: Mapping[str, Any], now: float) -> None:
        if number in self._open:
            request, began = self._open[number]
            request.status, request.seconds = int(response.get("status", 0)), now - began
            request.http = str(response.get("protocol", ""))
            request.received = _texts(response.get("headers"))

    # --- Firefox: events of WebDriver BiDi (https://w3c.github.io/webdriver-bidi/)

    def add_bidi_event(self, name: str, event: Mapping[str, Any]) -> None:
        """An event of WebDriver BiDi about the console or the network."""
        if name == "log.entryAdded":
            self._line(
                float(event.get("timestamp", 0)) / 1000,
                str(event.get("level", "")),
                str(event.get("text") or ""),
            )
            return
        request, at = event.get("request", {}), float(event.get("timestamp", 0)) / 1000
        number = f"{request.get('request', '')} {event.get('redirectCount', 0)}"
        if name == "network.beforeRequestSent":
            begun = BrowserRequest(
                at=at,
                method=str(request.get("method", "")),
                url=str(request.get("url", "")),
                kind=str(request.get("destination", "") or request.get("initiatorType") or ""),
                sent=_named_texts(request.get("headers")),
            )
            self._begin(number, begun, at)
        elif number in self._open:
            known = self._open[number][0]
            if name == "network.fetchError":
                known.error = str(event.get("errorText", "")) or "failed"
            else:
                response = event.get("response", {})
                known.status = int(response.get("status", 0))
                known.http = str(response.get("protocol", ""))
                known.size = int(response.get("bytesReceived") or 0)
                known.received = _named_texts(response.get("headers"))
            self._end(number, at)

    # --- Both

    def _line(self, at: float, level: str, text: str) -> None:
        if len(self.console) < _MOST:
            self.console.append(ConsoleLine(at, level, text))

    def _begin(self, number: str, request: BrowserRequest, now: float) -> None:
        if len(self.requests) < _MOST and request.url.startswith(_PAGES):
            self.requests.append(request)
            self._open[number] = request, now

    def _end(self, number: str, now: float) -> None:
        if number in self._open:
            request, began = self._open.pop(number)
            request.seconds = max(now - began, 0.0)


def _texts(headers: Any) -> dict[str, str]:
    return {str(name): str(value) for name, value in (headers or {}).items()}


def _named_texts(headers: Any) -> dict[str, str]:
    """Headers in the form of WebDriver BiDi."""
    return {
        str(each.get("name")): str(each.get("value", {}).get("value", "")) for each in headers or ()
    }


def network_text(requests: Iterable[BrowserRequest], opened: float) -> str:
    """One line per request, failed requests first. ``opened`` is the start of the session."""
    rows = []
    for each in sorted(requests, key=lambda each: (not each.has_failed, each.at)):
        result = each.error or str(each.status or "no response")
        rows.append(
            f"{each.at - opened:9.3f} s  {result:<9}  {each.method:<6} {each.url}  {each.kind}"
            f"  {each.seconds * 1000:.0f} ms  {each.size:,} bytes"
        )
    return "\n".join(rows) + "\n"


def archive(requests: Iterable[BrowserRequest]) -> str:
    """The requests as HAR 1.2, without bodies, because browsers do not report them."""
    entries = []
    for each in requests:
        began = datetime.fromtimestamp(each.at, UTC).isoformat(timespec="milliseconds")
        response = None
        if each.status:
            headers = {name.lower(): value for name, value in each.received.items()}
            response = {
                "status": each.status,
                "headers": headers,
                "content": b"",
                "http": each.http,
            }
        entry = har.entry(
            began=began,
            seconds=each.seconds,
            method=each.method,
            url=each.url,
            sent=each.sent,
            content=b"",
            answer=response,
            comment=each.error,
        )
        entry["response"]["bodySize"] = entry["response"]["content"]["size"] = each.size
        entries.append(entry)
    return json.dumps(har.archive(entries, __version__), ensure_ascii=False)
