"""A snapshot of a page: its screenshot, source, URL and dialog."""

from __future__ import annotations

import asyncio
import base64
import difflib
import io
import re

import msgspec

from wolfbane.browsers.evidence.page_inspector import PageLooks
from wolfbane.browsers.password_fields import TypedSecrets

PATIENCE = 15.0
"""Seconds for all commands of a snapshot."""
NO_TEXT = "(no text)"
_GATHER = """
const named = /^(a|button|label|h[1-6]|option|summary|legend|th)$/;
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
  if (named.test(e.localName)) put('text', e.textContent);
}
return found;
"""
# The copy is made in a document without a window, where no script of the page runs.
_SOURCE = """
const copy = document.implementation.createHTMLDocument('').importNode(
  document.documentElement, true);
const fields = 'input, textarea, option';
const live = document.querySelectorAll(fields);
copy.querySelectorAll(fields).forEach((field, number) => {
  const own = live[number];
  if (own.localName === 'textarea') field.textContent = own.value;
  else if (own.localName === 'option') field.toggleAttribute('selected', own.selected);
  else if (own.type === 'checkbox' || own.type === 'radio')
    field.toggleAttribute('checked', own.checked);
  else if (own.value) field.setAttribute('value', own.type === 'password' ? '*****' : own.value);
});
const type = document.doctype ? '<!doctype ' + document.doctype.name + '>\\n' : '';
const passwords = document.querySelectorAll('input[type=password]');
return [type + copy.outerHTML, Array.from(passwords, field => field.value)];
"""
_MARKS = {"id": "#", "class": ".", "tag": ""}
_MOST = 6
_BAND = 56
"""Pixels of the band above a screenshot that shows a dialog's text."""


class Snapshot(msgspec.Struct):
    """``why`` is the event before the snapshot. Missing parts are empty.

    ``at`` is in seconds since the start of the session.
    """

    why: str
    at: float = 0.0
    url: str = ""
    title: str = ""
    picture: bytes = b""
    source: str = ""
    dialog: str = ""


async def take(
    looks: PageLooks, why: str, secrets: TypedSecrets, *, whole: bool = True, over: bool = False
) -> Snapshot:
    """Read the page. If the browser does not respond, parts of the snapshot are empty.

    The contents of password fields are added to the secrets.

    An open dialog hides the page. If the session is ``over`` for its suite, the dialog is dismissed
    for the screenshot, and its text is drawn above. Raises DialogOpened.
    """
    snapshot = Snapshot(why)
    try:
        async with asyncio.timeout(PATIENCE):
            dialog = await looks.ask("GET", "alert/text")
            if dialog is not None:
                # Any other question would make some browsers close the dialog.
                snapshot.dialog = str(dialog) or NO_TEXT
                if not over:
                    return snapshot
                await looks.ask("POST", "alert/dismiss")
            snapshot.url = str(await looks.ask("GET", "url") or "")
            picture = await looks.ask("GET", "screenshot")
            snapshot.picture = base64.b64decode(picture) if isinstance(picture, str) else b""
            if snapshot.dialog and snapshot.picture:
                text = secrets.mask(snapshot.dialog)
                snapshot.picture = with_dialog(snapshot.picture, text)
            if whole:
                snapshot.title = str(await looks.ask("GET", "title") or "")
                snapshot.source = await _source(looks, secrets)
    except (OSError, TimeoutError, ValueError):
        pass  # What was had until then is kept.
    return snapshot


async def _source(looks: PageLooks, secrets: TypedSecrets) -> str:
    """The page with the values typed into its fields; without scripts, as sent by its server."""
    answer = await looks.ask("POST", "execute/sync", {"script": _SOURCE, "args": []})
    if not isinstance(answer, list):
        return str(await looks.ask("GET", "source") or "")
    source, passwords = answer
    secrets.add(map(str, passwords))
    return str(source)


def with_dialog(picture: bytes, text: str) -> bytes:
    """A screenshot of a page as PNG, below the text of the dialog that was open."""
    from PIL import Image, ImageDraw, ImageFont

    page = Image.open(io.BytesIO(picture)).convert("RGB")
    whole = Image.new("RGB", (page.width, page.height + _BAND), "#2f2a1c")
    whole.paste(page, (0, _BAND))
    pen = ImageDraw.Draw(whole)
    pen.text((16, 8), "an open dialog:", "#d8c07a", ImageFont.load_default(13))
    shown = " ".join(text.split())
    pen.text((16, 27), shown, "#ffffff", ImageFont.load_default(17))
    made = io.BytesIO()
    whole.save(made, "PNG")
    return made.getvalue()


async def near(looks: PageLooks, using: str, value: str) -> list[str]:
    """The elements on the page that are most similar to the wanted one: ids, names, classes, texts.

    Empty while a dialog is open, because a script would close it. Raises DialogOpened.
    """
    try:
        async with asyncio.timeout(PATIENCE):
            if await looks.ask("GET", "alert/text") is not None:
                return []
            elements = await looks.ask("POST", "execute/sync", {"script": _GATHER, "args": []})
    except (OSError, TimeoutError):
        return []
    texts = using in ("link text", "partial link text") or using == "xpath"
    kinds = ("text", "id", "name") if texts else ("id", "name", "class", "text")
    tokens = re.findall(r"[\w-]{2,}", value) if using != "link text" else [value]
    ranked: dict[str, float] = {}
    for kind, text in elements or ():
        if kind in kinds:
            if kind in ("text", "name"):
                shown = f"'{text}'"
            else:
                shown = _MARKS[kind] + text
            alike = (difflib.SequenceMatcher(None, w.lower(), text.lower()).ratio() for w in tokens)
            ranked[shown] = max(alike, default=0.0)
    return sorted(ranked, key=lambda shown: -ranked[shown])[:_MOST]
