"""Masks secrets in all output."""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Iterable, Iterator
from urllib.parse import quote, quote_plus

from wolfbane.environments.encoded import EncodedSecrets

HIDDEN = "*****"
_SHORTEST_INSIDE = 6
_LEAST_LEFT = 8
"""Characters of a secret that may remain after a cut without revealing it."""
_UNESCAPED = "!~*'()"
"""The characters that ``encodeURIComponent`` of ECMAScript leaves unchanged, besides letters,
digits and -_. .
"""
_CUT_AFTER = re.compile(
    r"""['"`)]*\s*(?:\.\.\.|…|\[)|['"`)]*(?:\n|\Z)|["']\s*[,}\]]|&(?:quot|\#34|\#x27|\#39);|<"""
)
_CUT_BEFORE = re.compile(
    r"""(?:\A|\n|\.\.\.|…|\])\s*['"`(]*\Z|[:,\[{]\s*["']\Z|&(?:quot|\#34|\#x27|\#39);\Z|>\Z"""
)
"""A cut is at a mark, at the end of a line, of a quoted text in JSON, or of an element."""
_ROOM = 16
"""Characters before a piece in which the mark of a cut is searched."""


class Mask:
    """Replaces secrets in all texts: in plain form, and in the forms that programs write.

    The matches of patterns are also replaced; if a pattern has a group ``secret``, only that group.

    The rest of a shortened secret is also replaced, if it has at least eight characters and is at
    the cut mark or at the end of a line or a quoted text. So texts may be shortened before they are
    masked.
    """

    def __init__(self, secrets: Iterable[str], patterns: Iterable[str] = ()) -> None:
        self._patterns = [re.compile(pattern) for pattern in sorted(patterns)]
        self._secrets: set[str] = set()
        self._whole: re.Pattern[str] | None = None
        self._encoded = EncodedSecrets(())
        self._ends: list[tuple[re.Pattern[str], dict[str, list[str]]]] = []
        self.learn(*secrets)

    @property
    def hides_something(self) -> bool:
        """Whether it has any secret or pattern."""
        return self._whole is not None or bool(self._patterns)

    def learn(self, *secrets: str) -> None:
        """Replace these from now on as well."""
        new = {secret for secret in secrets if secret} - self._secrets
        if not new:
            return
        self._secrets |= new
        forms = {form for secret in self._secrets for form in _forms(secret)}
        longest = sorted(forms, key=len, reverse=True)
        self._whole = _any_of(longest)
        self._encoded = EncodedSecrets(
            form for secret in self._secrets for form in _forms_to_encode(secret)
        )
        long = [form for form in longest if len(form) > _LEAST_LEFT]
        heads: dict[str, list[str]] = {}
        tails: dict[str, list[str]] = {}
        for form in long:
            heads.setdefault(form[:_LEAST_LEFT], []).append(form)
            tails.setdefault(form[-_LEAST_LEFT:], []).append(form)
        self._ends = [(_any_of(pattern), pattern) for pattern in (heads, tails) if pattern]

    def __call__(self, text: str) -> str:
        for pattern in self._patterns:
            text = pattern.sub(_without_secret, text)
        if self._whole is None:
            return text
        text = self._whole.sub(HIDDEN, text)
        text = _without(text, self._encoded.spans(text))
        if self._ends:
            (heads, by_head), (tails, by_tail) = self._ends
            cut = [(match.start(), _head(text, match, by_head)) for match in heads.finditer(text)]
            text = _without(text, cut)
            cut = [(_tail(text, match, by_tail), match.end()) for match in tails.finditer(text)]
            text = _without(text, cut)
        return text


def _without_secret(match: re.Match[str]) -> str:
    start, end = match.span("secret" if "secret" in match.re.groupindex else 0)
    if start < 0:  # an alternative without this group
        return match[0]
    first = match.start()
    return f"{match[0][: start - first]}{HIDDEN}{match[0][end - first :]}"


def _any_of(texts: Iterable[str]) -> re.Pattern[str]:
    return re.compile("|".join(map(re.escape, texts)))


def _head(text: str, match: re.Match[str], forms: dict[str, list[str]]) -> int:
    """The end of a secret's first part at this position, if the secret was cut here; otherwise, the
    start.
    """
    longest = 0
    for form in forms[match[0]]:
        length = _LEAST_LEFT
        while length < len(form) and text.startswith(form[: length + 1], match.start()):
            length += 1
        longest = max(longest, length)
    ends = range(match.start() + longest, match.start() + _LEAST_LEFT - 1, -1)
    return next((end for end in ends if _CUT_AFTER.match(text, end)), match.start())


def _tail(text: str, match: re.Match[str], forms: dict[str, list[str]]) -> int:
    """The start of a secret's last part at this position, if the secret was cut here; otherwise,
    the end.
    """
    longest = 0
    for form in forms[match[0]]:
        length = _LEAST_LEFT
        while length < len(form) and text.endswith(form[-length - 1 :], 0, match.end()):
            length += 1
        longest = max(longest, length)
    starts = range(match.end() - longest, match.end() - _LEAST_LEFT + 1)
    before = {start: text[max(start - _ROOM, 0) : start] for start in starts}
    return next((start for start in starts if _CUT_BEFORE.search(before[start])), match.end())


def _without(text: str, spans: list[tuple[int, int]]) -> str:
    for start, end in reversed([span for span in spans if span[0] < span[1]]):
        text = f"{text[:start]}{HIDDEN}{text[end:]}"
    return text


def _forms(secret: str) -> Iterator[str]:
    """A secret in every form, and each line of a multi-line secret, because lines are printed
    separately.
    """
    import html  # has a large table: only where there are secrets

    for text in _with_lines(secret):
        yield text
        yield from _in_addresses(text)
        yield from _in_literals(text)
        yield html.escape(text, quote=False)
        for quoted in ("&#x27;", "&#39;", "&apos;"):
            for double in ("&quot;", "&#34;"):
                escaped = html.escape(text, quote=False).replace("'", quoted)
                yield escaped.replace('"', double)
        yield text.encode().hex()
        yield text.encode().hex().upper()
    yield from _in_base64(secret.encode())


def _with_lines(secret: str) -> Iterator[str]:
    yield secret
    yield from (line for line in secret.splitlines() if len(line) >= _LEAST_LEFT)


def _forms_to_encode(secret: str) -> Iterator[str]:
    """The forms from which :class:`EncodedSecrets` cannot get the secret back."""
    for text in _with_lines(secret):
        yield text
        yield text.replace(" ", "+")
        yield text.encode().hex()
    yield from _in_base64(secret.encode())


def _in_addresses(text: str) -> Iterator[str]:
    """Percent-encoded, in upper and in lower case."""
    for encoded in (
        quote(text, safe=""),
        quote(text, safe="/"),
        quote(text, safe=_UNESCAPED),
        quote_plus(text),
        quote_plus(text, safe="/"),
    ):
        yield encoded
        yield re.sub("%[0-9A-F]{2}", lambda sign: sign[0].lower(), encoded)


def _in_literals(text: str) -> Iterator[str]:
    """The forms inside quotes: JSON, JSON in JSON, and Python."""
    for ascii_only in (True, False):
        inner = json.dumps(text, ensure_ascii=ascii_only)[1:-1]
        yield inner
        yield json.dumps(inner, ensure_ascii=ascii_only)[1:-1]
    yield repr(text)[1:-1]
    yield repr(text.encode())[2:-1]


def _in_base64(secret: bytes) -> Iterator[str]:
    """In base64 alone, and inside longer texts (``user:secret``), where it can start at any of
    three bytes.

    The characters at both ends that depend on the text around them are removed.
    """
    for encode in (base64.b64encode, base64.urlsafe_b64encode):
        yield encode(secret).decode()
        if len(secret) >= _SHORTEST_INSIDE:
            for before in range(3):
                whole = encode(b"\0" * before + secret).decode().rstrip("=")
                first = -(-before * 8 // 6)
                last = (before + len(secret)) * 8 // 6
                yield whole[first:last]
