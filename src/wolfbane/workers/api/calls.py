"""From a step and its operation to a request: address, parameters, body."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode, urljoin, urlsplit

from wolfbane.formats import styles
from wolfbane.formats.documents import step as pointer_step
from wolfbane.formats.openapi import Operation
from wolfbane.workers.api.scope import Call, Scope, is_json

_HOLE = re.compile(r"\{([^{}]+)\}")
_FORM = "application/x-www-form-urlencoded"


class CannotCall(ValueError):
    """A request that cannot be made; the text says why."""


def base_url(operation: Operation, given: str) -> str:
    """What paths are put after: the setting, else the description's first server, filled."""
    if given:
        return given.rstrip("/")
    server = operation.servers[0]
    variables = server.get("variables", {})
    url = _HOLE.sub(lambda hole: str(variables.get(hole[1], {}).get("default", "")), server["url"])
    if urlsplit(url).scheme not in ("http", "https"):
        joined = urljoin(operation.source.address, url)
        if urlsplit(joined).scheme not in ("http", "https"):
            words = f"the description's server is '{url}', no whole address"
            raise CannotCall(f"{words}: give the suite's http.base_url")
        url = joined
    return url.rstrip("/")


def make_call(
    operation: Operation, step: Mapping[str, Any], shared: list[Any], scope: Scope, base: str
) -> Call:
    """The request of a step. ``shared`` are the workflow's parameters. Raises CannotCall."""
    document = scope.library.document
    values: dict[tuple[str, str], Any] = {}
    for entry in (*shared, *step.get("parameters", [])):
        parameter = document.resolved(entry)
        place = parameter.get("in", "query")
        values[place, parameter["name"]] = scope.value(parameter["value"])
    for (place, name), described in operation.parameters.items():
        missing = values.get((place, name)) is None
        if missing and described.get("required"):
            raise CannotCall(f"parameter '{name}' ({place}) has no value")
    path = _path(operation, values)
    query = [
        _in_query(operation, name, value)
        for (place, name), value in values.items()
        if place == "query" and value is not None
    ]
    url = base + path + ("?" + "&".join(filter(None, query)) if any(query) else "")
    headers = _headers(operation, values)
    body, content = _body(operation, step.get("requestBody"), scope, headers)
    by_place = {
        place: {name: value for (where, name), value in values.items() if where == place}
        for place in ("query", "path")
    }
    return Call(
        operation.method, url, headers, by_place["query"], by_place["path"], body, content
    )  # fmt: skip


def _path(operation: Operation, values: Mapping[tuple[str, str], Any]) -> str:
    def filled(hole: re.Match[str]) -> str:
        name = hole[1]
        value = values.get(("path", name))
        if value is None:
            raise CannotCall(f"parameter '{name}' (path) has no value")
        described = operation.parameters.get(("path", name), {"in": "path"})
        if "content" in described:
            return quote(json.dumps(value), safe="")
        style, explode = styles.style_of(described)
        return styles.in_path(name, value, style, explode=explode)

    return _HOLE.sub(filled, operation.path)


def _in_query(operation: Operation, name: str, value: Any) -> str:
    described = operation.parameters.get(("query", name), {"in": "query"})
    if "content" in described:
        return f"{quote(name, safe='')}={quote(json.dumps(value), safe='')}"
    style, explode = styles.style_of(described)
    reserved = bool(described.get("allowReserved"))
    return styles.in_query(name, value, style, explode=explode, allow_reserved=reserved)


def _headers(operation: Operation, values: Mapping[tuple[str, str], Any]) -> dict[str, str]:
    found = {}
    cookies = []
    for (place, name), value in values.items():
        described = operation.parameters.get((place, name), {"in": place})
        if value is None or place not in ("header", "cookie"):
            continue
        if "content" in described:
            text = json.dumps(value)
        elif place == "header":
            text = styles.in_header(value, explode=styles.style_of(described)[1])
        if place == "header":
            found[name] = text
        else:
            cookies.append(styles.in_cookie(name, value, explode=styles.style_of(described)[1]))
    return {**found, "Cookie": "; ".join(cookies)} if cookies else found


def _body(
    operation: Operation, given: Mapping[str, Any] | None, scope: Scope, headers: dict[str, str]
) -> tuple[Any, bytes]:
    """The body's value and its bytes; sets the content type."""
    described = operation.body.get("content", {})
    if given is None:
        if operation.body.get("required"):
            raise CannotCall("the operation needs a body, and the step has no requestBody")
        return None, b""
    media = given.get("contentType") or next(iter(described), "application/json")
    if "x-file" in given:
        place = (scope.library.root / scope.library.path).parent / scope.value(given["x-file"])
        try:
            content = Path(place).read_bytes()
        except OSError as error:
            raise CannotCall(f"the body cannot be read: {error}") from None
        headers.setdefault("Content-Type", media)
        return None, content
    payload = given.get("payload")
    if is_json(media) and isinstance(payload, str):
        # Read before its expressions are worked out: a quote in a value stays inside of it.
        payload = _read_json(payload)
    value = scope.value(payload)
    if is_json(media) and isinstance(value, str):
        value = _read_json(value)
    for entry in given.get("replacements", []):
        value = _replaced(value, entry["target"], scope.value(entry["value"]), media)
    kind, content = encoded(value, media, described.get(media, {}).get("encoding", {}))
    headers.setdefault("Content-Type", kind)
    return value, content


def _read_json(text: str) -> Any:
    try:
        return json.loads(text)
    except ValueError:
        return text


def encoded(value: Any, media: str, encoding: Mapping[str, Any]) -> tuple[str, bytes]:
    """The content type in full, and the bytes of a value in it."""
    kind = media.partition(";")[0].strip().lower()
    if is_json(kind):
        return media, json.dumps(value, ensure_ascii=False).encode()
    if kind == _FORM and isinstance(value, Mapping):
        pairs = []
        for name, item in value.items():
            items = item if isinstance(item, list) else [item]
            pairs += [(name, _field(each)) for each in items]
        return media, urlencode(pairs).encode()
    if kind.startswith("multipart/") and isinstance(value, Mapping):
        return _multipart(value, media, encoding)
    text = value if isinstance(value, str) else "" if value is None else json.dumps(value)
    return media, text.encode()


def _field(value: Any) -> str:
    return json.dumps(value) if isinstance(value, dict | list) else styles.plain(value)


def _multipart(
    value: Mapping[str, Any], media: str, encoding: Mapping[str, Any]
) -> tuple[str, bytes]:
    """RFC 7578: a part for each property, for each item of an array."""
    import secrets

    boundary = secrets.token_hex(16)
    parts = []
    for name, item in value.items():
        for each in item if isinstance(item, list) else [item]:
            text = _field(each).encode()
            default = "application/json" if isinstance(each, dict | list) else "text/plain"
            kind = encoding.get(name, {}).get("contentType", default)
            file = "" if kind.startswith("text/plain") else f'; filename="{quote(name)}"'
            head = f'Content-Disposition: form-data; name="{quote(name)}"{file}'
            parts.append(f"--{boundary}\r\n{head}\r\nContent-Type: {kind}\r\n\r\n".encode() + text)
    content = b"\r\n".join([*parts, f"--{boundary}--\r\n".encode()])
    return f"{media.partition(';')[0]}; boundary={boundary}", content


def _replaced(value: Any, target: str, new: Any, media: str) -> Any:
    if isinstance(value, str) and "xml" in media:
        return _replaced_in_xml(value, target, new)
    names = [n.replace("~1", "/").replace("~0", "~") for n in target.split("/")[1:]]
    if not target.startswith("/") or not names:
        raise CannotCall(f"replacement '{target}' is no JSON Pointer into the payload")
    return _set(value, names, new, target)


def _set(value: Any, names: list[str], new: Any, target: str) -> Any:
    if not names:
        return new
    first, *rest = names
    if isinstance(value, dict):
        if rest and first not in value:
            raise CannotCall(f"replacement '{target}': there is no '{pointer_step(first)}'")
        return {**value, first: _set(value.get(first), rest, new, target)}
    if isinstance(value, list) and first.isdecimal() and int(first) < len(value):
        index = int(first)
        return [*value[:index], _set(value[index], rest, new, target), *value[index + 1 :]]
    raise CannotCall(f"replacement '{target}': there is no '{pointer_step(first)}'")


def _replaced_in_xml(text: str, target: str, new: Any) -> str:
    from lxml import etree

    from wolfbane.workers.api.criteria import parse_xml

    root = parse_xml(text.encode())
    found = root.xpath(target)
    if not isinstance(found, list) or not found:
        raise CannotCall(f"replacement '{target}' finds nothing in the payload")
    for node in found:
        if isinstance(node, etree._Element):
            node.text = styles.plain(new)
        elif node.is_attribute:
            node.getparent().set(node.attrname, styles.plain(new))
        else:
            node.getparent().text = styles.plain(new)
    return str(etree.tostring(root, encoding="unicode"))
