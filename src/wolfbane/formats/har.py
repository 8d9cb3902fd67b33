"""HTTP archives: HAR 1.2, as described in http://www.softwareishard.com/blog/har-12-spec/."""

from __future__ import annotations

import base64
from collections.abc import Iterable, Mapping
from typing import Any
from urllib.parse import parse_qsl, urlsplit

KEPT = 1 << 16
PRIVATE = ("authorization", "proxy-authorization", "cookie", "set-cookie")
HIDDEN = "*****"


def entry(
    *,
    began: str,
    seconds: float,
    method: str,
    url: str,
    sent: Mapping[str, str],
    content: bytes,
    answer: Mapping[str, Any] | None,
    comment: str,
) -> dict[str, Any]:
    """One request with its response. ``began`` is an ISO 8601 time with a zone.

    ``answer`` has ``status``, ``headers``, ``content`` and ``http``, and may have ``wire``, the
    length of the body before decoding (-1 if unknown). Without a response, the status is 0.
    """
    request: dict[str, Any] = {
        "method": method,
        "url": url,
        "httpVersion": "HTTP/1.1",
        "cookies": [],
        "headers": _pairs(sent.items()),
        "queryString": _pairs(parse_qsl(urlsplit(url).query, keep_blank_values=True)),
        "headersSize": -1,
        "bodySize": len(content),
    }
    if content:
        kind = next((v for k, v in sent.items() if k.lower() == "content-type"), "")
        request["postData"] = {"mimeType": kind, "text": content[:KEPT].decode("utf-8", "replace")}
    return {
        "startedDateTime": began,
        "time": round(seconds * 1000, 3),
        "request": request,
        "response": _response(answer),
        "cache": {},
        "timings": {"send": 0, "wait": round(seconds * 1000, 3), "receive": 0},
        "comment": comment,
    }


def archive(entries: Iterable[Mapping[str, Any]], version: str) -> dict[str, Any]:
    """The whole document. ``version`` is Wolfbane's."""
    creator = {"name": "Wolfbane", "version": version}
    return {"log": {"version": "1.2", "creator": creator, "entries": list(entries)}}


def _response(answer: Mapping[str, Any] | None) -> dict[str, Any]:
    response: dict[str, Any] = {
        "status": 0,
        "statusText": "",
        "httpVersion": "",
        "cookies": [],
        "headers": [],
        "content": {"size": 0, "mimeType": ""},
        "redirectURL": "",
        "headersSize": -1,
        "bodySize": -1,
    }
    if answer is None:
        return response
    headers, content = answer["headers"], answer["content"]
    kind = headers.get("content-type", "")
    body: dict[str, Any] = {"size": len(content), "mimeType": kind}
    try:
        body["text"] = content[:KEPT].decode()
    except UnicodeDecodeError:
        body["text"] = base64.b64encode(content[:KEPT]).decode()
        body["encoding"] = "base64"
    if len(content) > KEPT:
        body["comment"] = f"the first {KEPT} of {len(content)} bytes"
    return {
        **response,
        "status": answer["status"],
        "httpVersion": answer["http"],
        "headers": _pairs(headers.items()),
        "content": body,
        "redirectURL": headers.get("location", ""),
        "bodySize": answer.get("wire", len(content)),
    }


def _pairs(items: Iterable[tuple[str, str]]) -> list[dict[str, str]]:
    return [{"name": str(name), "value": shown(str(name), str(value))} for name, value in items]


def shown(name: str, value: str) -> str:
    """Headers with credentials are stored without their value."""
    word, space, _ = value.partition(" ")
    if name.lower() in PRIVATE:
        if space and "authorization" in name.lower():
            return f"{word} {HIDDEN}"
        return HIDDEN
    return value
