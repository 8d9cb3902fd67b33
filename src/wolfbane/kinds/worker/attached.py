"""Evidence messages for files that a test attached."""

from __future__ import annotations

import os
import re
from base64 import b64encode

from wolfbane.kinds.worker.channel import Message

LARGEST = 16 << 20
"""Bytes of a file that is kept."""


class TooLarge(Exception):
    """The file has more bytes than are kept. The text of the exception says so."""


def evidence(address: str, path: str, name: str = "") -> Message:
    """The message that attaches a file to a test. Raises OSError, or TooLarge."""
    size = os.path.getsize(path)
    if size > LARGEST:
        raise TooLarge(f"{name or path}: too large to keep ({size} bytes)")
    with open(path, "rb") as file:
        data = file.read(LARGEST)
    ending = os.path.splitext(path)[1].lower().lstrip(".")
    kind = "screenshot"
    if ending != "png":
        kind = re.sub("[^a-z0-9]", "", ending) or "bin"
    message = {"type": "evidence", "address": address, "kind": kind, "name": name}
    try:
        message["text"] = data.decode("utf-8")
    except UnicodeDecodeError:
        message["data"] = b64encode(data).decode()
    return message
