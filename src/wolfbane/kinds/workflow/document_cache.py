"""The place of the saved copy of a document with a URL."""

from __future__ import annotations

import hashlib
import re
from urllib.parse import urlsplit

DEFAULT = ".wolfbane/copies"
_ENDINGS = (".json", ".yaml", ".yml")


def is_url(text: str) -> bool:
    """Whether a document is remote, and not a local file."""
    return urlsplit(text).scheme in ("http", "https")


def place_of(url: str, folder: str) -> str:
    """The path of the copy below ``folder``: host and path; a different query is a different
    document.
    """
    parts = urlsplit(url)
    path = re.sub(r"[^\w./-]", "_", parts.path.strip("/")) or "document"
    path = "/".join(part for part in path.split("/") if part not in ("", ".", ".."))
    stem, ending = path, ""
    for known in _ENDINGS:
        if path.endswith(known):
            stem, ending = path.removesuffix(known), known
    if stem.endswith(".arazzo"):
        stem, ending = stem.removesuffix(".arazzo"), f".arazzo{ending}"
    mark = ""
    if parts.query:
        mark = "-" + hashlib.blake2b(parts.query.encode(), digest_size=4).hexdigest()
    host = re.sub(r"[^\w.-]", "_", parts.netloc.rpartition("@")[2])
    return f"{folder}/{host}/{stem}{mark}{ending}"
