"""What a page was like at a moment: its picture, source, address, console and dialog."""

from __future__ import annotations

import asyncio
import base64
import difflib
import re
from typing import Any

import msgspec

from wolfbane.browsers.drivers import BrowserDriver, value_of
from wolfbane.browsers.failures import WebDriverError

PATIENCE = 15.0
_GATHER = """
const told = /^(a|button|label|h[1-6]|option|summary|legend|th)$/;
const seen = new Set(), found = [];
const put = (kind, text) => {
  text = (text || '').trim().replace(/\\s+/g, ' ').slice(0, 60);
  if (text && !seen.has(kind + text) && found.length < 500) {
    seen.add(kind + text); found.push([kind, text]);
  }
};
for (const e of document.querySelectorAll('*')) {
  put('id', e.id); put('name', e.getAttribute('name'));
  for (const c of e.classList) put('class', c);
  put('tag', e.localName);
  if (told.test(e.localName)) put('text', e.textContent);
}
return found;
"""
_MARKS = {"id": "#", "class": ".", "tag": ""}


class Snapshot(msgspec.Struct):
    """``why`` says what had just happened; what could not be had is empty."""

    why: str
    url: str = ""
    title: str = ""
    picture: bytes = b""
    source: str = ""
    console: list[str] = msgspec.field(default_factory=list)
    dialog: str = ""


async def take(driver: BrowserDriver, why: str, *, whole: bool = True) -> Snapshot:
    """Look at the page. Never raises: a browser that does not answer leaves it half empty."""
    found = Snapshot(why)
    try:
        async with asyncio.timeout(PATIENCE):
            if dialog := await _asked(driver, "GET", "alert/text"):
                # Any other question would make some browsers close the dialog.
                found.dialog = str(dialog)
                return found
            found.url = str(await _asked(driver, "GET", "url") or "")
            picture = await _asked(driver, "GET", "screenshot")
            found.picture = base64.b64decode(picture) if isinstance(picture, str) else b""
            if whole:
                found.title = str(await _asked(driver, "GET", "title") or "")
                found.source = str(await _asked(driver, "GET", "source") or "")
                found.console = await _console(driver)
    except (OSError, TimeoutError, ValueError):
        pass  # What was had until then is kept.
    return found


async def _asked(driver: BrowserDriver, method: str, path: str, body: Any = None) -> Any:
    try:
        return await value_of(driver, method, path, body)
    except WebDriverError:
        return None


async def _console(driver: BrowserDriver) -> list[str]:
    """What the page wrote to the console, where the driver tells."""
    if "goog:chromeOptions" not in driver.granted:
        return []
    entries = await _asked(driver, "POST", "se/log", {"type": "browser"}) or []
    return [f"{entry.get('level', '')}  {entry.get('message', '')}" for entry in entries]


async def near(driver: BrowserDriver, using: str, value: str) -> list[str]:
    """What the page has that is most like what was looked for: ids, names, classes, texts."""
    try:
        async with asyncio.timeout(PATIENCE):
            found = await _asked(driver, "POST", "execute/sync", {"script": _GATHER, "args": []})
    except (OSError, TimeoutError):
        return []
    texts = using in ("link text", "partial link text") or using == "xpath"
    kinds = ("text", "id", "name") if texts else ("id", "name", "class", "text")
    words = re.findall(r"[\w-]{2,}", value) if using != "link text" else [value]
    ranked: dict[str, float] = {}
    for kind, text in found or ():
        if kind in kinds:
            shown = f"'{text}'" if kind in ("text", "name") else _MARKS[kind] + text
            alike = (difflib.SequenceMatcher(None, w.lower(), text.lower()).ratio() for w in words)
            ranked[shown] = max(alike, default=0.0)
    return sorted(ranked, key=lambda shown: -ranked[shown])[:_MOST]


_MOST = 6
