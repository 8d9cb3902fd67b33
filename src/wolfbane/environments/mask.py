"""Keep secrets out of everything that is shown or written."""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Iterable, Iterator
from urllib.parse import quote, quote_plus

HIDDEN = "*****"
_SHORTEST_INSIDE = 6


class Mask:
    """Replaces secrets wherever they appear: plain, URL-encoded, JSON-escaped, in base64."""

    def __init__(self, secrets: Iterable[str]) -> None:
        forms = {form for secret in secrets if secret for form in _forms(secret)}
        longest = sorted(forms, key=len, reverse=True)
        self._pattern = re.compile("|".join(map(re.escape, longest))) if longest else None

    def __call__(self, text: str) -> str:
        return self._pattern.sub(HIDDEN, text) if self._pattern else text


def _forms(secret: str) -> Iterator[str]:
    yield secret
    for safe in ("", "/"):
        yield quote(secret, safe=safe)
        yield quote_plus(secret, safe=safe)
    yield json.dumps(secret)[1:-1]
    yield json.dumps(secret, ensure_ascii=False)[1:-1]
    yield from _in_base64(secret.encode())


def _in_base64(secret: bytes) -> Iterator[str]:
    """In base64 alone, and inside of more (``user:secret``): it may begin at any of three bytes.

    The characters at the ends that depend on what stands around are left away.
    """
    for encode in (base64.b64encode, base64.urlsafe_b64encode):
        yield encode(secret).decode()
        if len(secret) >= _SHORTEST_INSIDE:
            for before in range(3):
                whole = encode(b"\0" * before + secret).decode().rstrip("=")
                first = -(-before * 8 // 6)
                last = (before + len(secret)) * 8 // 6
                yield whole[first:last]
