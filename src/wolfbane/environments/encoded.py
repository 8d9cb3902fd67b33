"""Finds secrets in texts that programs encoded: once, twice, or in two ways.

Every encoding is undone in the text around a part of a secret that no encoding changes, because
programs differ in the characters that they encode.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Iterable, Iterator

import msgspec

SHORTEST = 4
"""Characters of a secret that is searched in encoded texts."""
_ANY_CASE = 8
"""Characters of a secret that is also found in other case. A shorter one is often a word."""
_ANCHOR = 12
"""Maximum length of the searched part."""
_LONGEST_CHARACTER = 28
"""Characters of an encoded character: four bytes, as ``%2525F0``."""
_LONGEST_WHOLE = 1 << 16
"""Characters of a text that is searched completely, for secrets without a part to search."""
_GAP = re.compile(r"(?:\x1b\[[\d;]*[A-Za-z]|\r?\n[ \t]*)+")
"""Additions of terminals and line lengths to a text: colours, and line ends with indentation."""
_RUN = re.compile(r"[a-z0-9]{3,}")
_BEGINNINGS = "%\\&'\""
"""The first characters of encoded characters."""
_ENDS = "0123456789abcdefnrtv;\\'\""
"""The last characters of encoded characters, in lower case: of codes, ``\\n`` and ``&lt;``."""


class _Span(msgspec.Struct, frozen=True):
    """A text, and for each character the start and the end of its form in the original text."""

    text: str
    starts: list[int]
    ends: list[int]

    def decoded(self, pattern: re.Pattern[str], decode: Callable[[str], str]) -> _Span:
        """The text with all matches decoded."""
        pieces: list[str] = []
        starts: list[int] = []
        ends: list[int] = []
        last = 0
        for match in pattern.finditer(self.text):
            kept, new = slice(last, match.start()), decode(match[0])
            last = match.end()
            pieces += [self.text[kept], new]
            starts += [*self.starts[kept], *[self.starts[match.start()]] * len(new)]
            ends += [*self.ends[kept], *[self.ends[last - 1]] * len(new)]
        if not last:
            return self
        pieces.append(self.text[last:])
        return _Span("".join(pieces), starts + self.starts[last:], ends + self.ends[last:])


def _from_bytes(data: bytes) -> str:
    try:
        return data.decode()
    except UnicodeDecodeError:  # ECMAScript's escape() writes the code of a character
        return data.decode("latin-1")


def _from_units(text: str) -> str:
    """Codes of four digits. A character outside of the first 65,536 is written as two codes."""
    units = re.findall(r"[0-9a-fA-F]{4}", text)
    return bytes.fromhex("".join(units)).decode("utf-16-be", "replace")


def _percent(text: str) -> str:
    if text[1] in "uU":
        return _from_units(text)
    return _from_bytes(bytes.fromhex(text.replace("%", "")))


_LONG_CODE = len(r"\U0001f6a2")
_LETTERS = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f", "v": "\v", "a": "\a", "\n": ""}
_CODE = re.compile(r"\\(?:x([0-9a-fA-F]{2})|([0-7]{3}))")


def _backslash(text: str) -> str:
    if len(text) == _LONG_CODE and text[1] == "U":
        code = int(text[2:], 16)
        if code <= sys.maxunicode:
            return chr(code)
        return text
    if text[1] == "u" and len(text) > 2:
        return _from_units(text)
    if codes := _CODE.findall(text):
        return _from_bytes(bytes(int(h, 16) if h else int(o, 8) & 255 for h, o in codes))
    return _LETTERS.get(text[1], text[1])


def _entity(text: str) -> str:
    import html  # has a large table: only where there are secrets

    return html.unescape(text)


_Decoder = tuple[re.Pattern[str], Callable[[str], str]]
_PERCENT: _Decoder = (re.compile(r"(?:%u[0-9a-fA-F]{4})+|(?:%[0-9a-fA-F]{2})+"), _percent)
_BACKSLASH: _Decoder = (
    re.compile(
        r"(?:\\u[0-9a-fA-F]{4})+|\\U[0-9a-fA-F]{8}|(?:\\x[0-9a-fA-F]{2}|\\[0-7]{3})+|\\[^xuU]|\\[xuU]",
        re.DOTALL,
    ),
    _backslash,
)
_ENTITY: _Decoder = (re.compile(r"&(?:#\d{1,7}|#[xX][0-9a-fA-F]{1,6}|[A-Za-z]\w{1,30});"), _entity)
_SINGLE: _Decoder = (re.compile(r"""'\\''|'"'"'|''"""), lambda text: "'")
_DOUBLE: _Decoder = (re.compile(r'''"'"'"|""'''), lambda text: '"')
"""A quote in quotes: of shells, SQL and CSV."""
_SPACE: _Decoder = (re.compile(r"[ \t]+"), lambda text: "")
_DECODERS = (_PERCENT, _BACKSLASH, _ENTITY, _SINGLE, _DOUBLE)
_DEPTH = 3
"""Maximum number of encodings of one text."""


class _Anchored(msgspec.Struct, frozen=True):
    """A form of a secret, and its longest part of letters and digits in lower case.

    No encoding changes that part. ``before`` and ``after`` are the characters next to it, or the
    first characters of their encoded forms.
    """

    form: str
    anchor: str
    start: int
    before: str
    after: str

    @classmethod
    def of(cls, form: str) -> _Anchored:
        """Empty without such a part of at least three characters."""
        low = form.lower()
        longest = max(_RUN.finditer(low), key=lambda run: run.end() - run.start(), default=None)
        if longest is None or len(low) != len(form):
            return cls(form, "", 0, "", "")
        start, end = longest.start(), min(longest.end(), longest.start() + _ANCHOR)
        before, after = low[start - 1 : start], low[end : end + 1]
        return cls(
            form,
            low[start:end],
            start,
            before and before + _ENDS,
            after and after + _BEGINNINGS,
        )

    def places(self, low: str) -> Iterator[tuple[int, int]]:
        """The parts of a text in lower case that may contain this form."""
        at = -1
        while (at := low.find(self.anchor, at + 1)) >= 0:
            end = at + len(self.anchor)
            if self.before and low[max(at - 1, 0) : at] not in self.before:
                continue
            if self.after and low[end : end + 1] not in self.after:
                continue
            rest = len(self.form) - self.start - len(self.anchor)
            yield max(at - _room(self.start), 0), end + _room(rest)


def _room(length: int) -> int:
    return length * _LONGEST_CHARACTER


class EncodedSecrets:
    """Searches secrets, and forms of secrets, in encoded texts."""

    def __init__(self, forms: Iterable[str]) -> None:
        forms = list(forms)
        # A line may be broken at a space, which is then lost in the indentation.
        without = [_SPACE[0].sub("", form) for form in forms if len(form) >= _ANY_CASE]
        self._decoders = [*_DECODERS, *([_SPACE] if any(map(_SPACE[0].search, forms)) else [])]
        forms += without
        long = sorted({form for form in forms if len(form) >= SHORTEST}, key=len, reverse=True)
        exact = [re.escape(form) for form in long if len(form) < _ANY_CASE]
        loose = [f"(?i:{re.escape(form)})" for form in long if len(form) >= _ANY_CASE]
        self._forms = re.compile("|".join([*loose, *exact]) or r"(?!)")
        anchored = [_Anchored.of(form) for form in long]
        self._anchored = [each for each in anchored if each.anchor]
        self._is_everywhere = len(anchored) > len(self._anchored)

    def spans(self, text: str) -> list[tuple[int, int]]:
        """The start and end of each secret in a text, in order, without overlaps."""
        flat = _GAP.sub("", text)
        low = flat.lower()
        if len(low) != len(flat):
            low = flat
        windows = {position for each in self._anchored for position in each.places(low)}
        if self._is_everywhere and len(flat) <= _LONGEST_WHOLE:
            windows.add((0, len(flat)))
        inside = {span for window in windows for span in self._inside(flat, window)}
        if not inside:
            return []
        starts, ends = _places(text)
        merged: list[tuple[int, int]] = []
        for start, end in sorted((starts[first], ends[last - 1]) for first, last in inside):
            if merged and start < merged[-1][1]:
                merged[-1] = merged[-1][0], max(end, merged[-1][1])
            else:
                merged.append((start, end))
        return merged

    def _inside(self, text: str, window: tuple[int, int]) -> Iterator[tuple[int, int]]:
        start, end = window[0], min(window[1], len(text))
        first = _Span(text[start:end], list(range(start, end)), list(range(start + 1, end + 1)))
        spans, seen = [first], {first.text}
        for _ in range(_DEPTH + 1):
            for span in spans:
                for match in self._forms.finditer(span.text):
                    yield span.starts[match.start()], span.ends[match.end() - 1]
            decoded = [span.decoded(*decoder) for span in spans for decoder in self._decoders]
            spans = list({each.text: each for each in decoded if each.text not in seen}.values())
            seen.update(each.text for each in spans)


def _places(text: str) -> tuple[list[int], list[int]]:
    """The start and the end of each character that is not in a gap."""
    whole = _Span(text, list(range(len(text))), list(range(1, len(text) + 1)))
    flat = whole.decoded(_GAP, lambda gap: "")
    return flat.starts, flat.ends
