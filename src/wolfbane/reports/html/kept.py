"""Embeds evidence in a report: screenshots, texts and HTTP exchanges, up to a size limit."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from wolfbane.basis.units import bytes_shown
from wolfbane.model import Evidence
from wolfbane.reports.text import visible
from wolfbane.results.foreign import read_evidence

PICTURES = {
    ".png": "image/png",
    ".gif": "image/gif",
    ".jpg": "image/jpeg",
    ".jpeg": "image/jpeg",
    ".webp": "image/webp",
    ".svg": "image/svg+xml",
}
LONGEST_TEXT = 1 << 16
ROOM = 40 << 20
"""Characters for all evidence of a report.

Further evidence is only named, and stays in the folder.
"""


class Keeper:
    """Reads evidence from the folder of a run until the size limit is reached."""

    def __init__(self, folder: Path | None, room: int = ROOM) -> None:
        self._folder, self._room = folder, room

    def embedded(self, evidence: Iterable[Evidence]) -> list[dict[str, Any]]:
        """Each piece: its kind and path, and the content that the report includes."""
        return [{"kind": e.kind, "path": e.path, **_named(e), **self._content(e)} for e in evidence]

    def _content(self, evidence: Evidence) -> dict[str, Any]:
        if self._folder is None:
            return {}
        try:
            data = read_evidence(self._folder, evidence.path, self._room)
        except FileNotFoundError:
            return {"left": "the file no longer exists"}
        except OSError as error:
            return {"left": f"the file cannot be included: {error.strerror or error}"}
        if data is None:
            return {"left": "too large to include in this report"}
        content = _read(Path(evidence.path), data)
        self._room -= len(json.dumps(content))
        return content


def _named(evidence: Evidence) -> dict[str, Any]:
    """Its name in the test, and the number of the part that it belongs to."""
    data = {"name": visible(evidence.name), "part": evidence.part}
    return {name: value for name, value in data.items() if value}


def _read(path: Path, data: bytes) -> dict[str, Any]:
    if path.suffix in PICTURES:
        return {"picture": f"data:{PICTURES[path.suffix]};base64,{base64.b64encode(data).decode()}"}
    if path.suffix == ".har":
        try:
            return {"exchanges": list(_exchanges(json.loads(data)))}
        except (ValueError, KeyError, TypeError):
            return {"text": shortened(data.decode("utf-8", "replace"))}
    if path.name.endswith(".replay.json"):
        return {"replay": _shown(json.loads(data))}
    if b"\0" in data:
        return {"left": f"{bytes_shown(len(data))}, stored in the folder of the run"}
    return {"text": shortened(data.decode("utf-8", "replace"))}


def _shown(value: Any) -> Any:
    """JSON data with its texts safe to show."""
    if isinstance(value, str):
        return visible(value)
    if isinstance(value, list):
        return [_shown(each) for each in value]
    if isinstance(value, dict):
        return {key: _shown(each) for key, each in value.items()}
    return value


def _exchanges(archive: Mapping[str, Any]) -> Iterator[dict[str, Any]]:
    for entry in archive["log"]["entries"]:
        request, response = entry["request"], entry["response"]
        content = response["content"]
        binary = content.get("encoding") == "base64"
        yield {
            "method": request["method"],
            "url": request["url"],
            "status": response["status"],
            "ms": entry["time"],
            "said": entry.get("comment", ""),
            "sent": _headers(request),
            "body": shortened(request.get("postData", {}).get("text", "")),
            "got": _headers(response),
            "answer": "" if binary else shortened(content.get("text", "")),
            "size": content.get("size", 0),
            "type": content.get("mimeType", ""),
        }


def _headers(message: Mapping[str, Any]) -> list[list[str]]:
    return [[header["name"], header["value"]] for header in message["headers"]]


def shortened(text: str, longest: int = LONGEST_TEXT) -> str:
    """Text that is safe to show, without the middle if it is long."""
    shown = visible(text)
    if len(shown) <= longest:
        return shown
    half = longest // 2
    left = len(shown) - 2 * half
    message = f"[... {left:,} characters omitted; 'wolfbane show --verbose' prints all ...]"
    return f"{shown[:half]}\n{message}\n{shown[-half:]}"
