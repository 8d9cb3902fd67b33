"""The bodies of requests: JSON, forms, parts with files, texts, and unchanged files."""

from __future__ import annotations

import json
import mimetypes
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlencode

from wolfbane.kinds.workflow import styles
from wolfbane.kinds.workflow.checks import json_problem
from wolfbane.kinds.workflow.documents import step as pointer_step
from wolfbane.kinds.workflow.extensions import FILE
from wolfbane.kinds.workflow.openapi import Operation
from wolfbane.kinds.workflow.runner.scope import Scope, is_json

_FORM = "application/x-www-form-urlencoded"
_BYTES = "application/octet-stream"


class CannotCall(ValueError):
    """A request that cannot be built. The text gives the reason."""


def make_body(
    operation: Operation, given: Mapping[str, Any] | None, scope: Scope, headers: dict[str, str]
) -> tuple[Any, bytes]:
    """The body's value and its bytes; sets the content type. Raises CannotCall."""
    described = operation.body.get("content", {})
    if given is None:
        if operation.body.get("required"):
            raise CannotCall("the operation needs a body, but the step has no requestBody")
        return None, b""
    media = given.get("contentType") or next(iter(described), "application/json")
    if FILE in given:
        headers.setdefault("Content-Type", media)
        return None, _file(scope, scope.value(given[FILE]))[1]
    value = _value(given, media, scope)
    if media.partition(";")[0].strip().lower().startswith("multipart/") and isinstance(value, dict):
        kind, content = _multipart(operation, value, media, scope=scope)
    else:
        kind, content = encoded(value, media)
    headers.setdefault("Content-Type", kind)
    return value, content


def _value(given: Mapping[str, Any], media: str, scope: Scope) -> Any:
    payload = given.get("payload")
    if is_json(media) and isinstance(payload, str):
        # Read before its expressions are worked out: a quote in a value stays inside of it.
        payload = _read_json(payload)
    value = scope.value(payload)
    if is_json(media) and isinstance(value, str):
        if problem := json_problem(value):
            raise CannotCall(f"the payload is not valid JSON: {problem}: {value}")
        value = _read_json(value)
    for entry in given.get("replacements", []):
        value = _replaced(value, entry["target"], scope.value(entry["value"]), media=media)
    return value


def _read_json(text: str) -> Any:
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return text


def _file(scope: Scope, name: Any) -> tuple[str, bytes]:
    """The name and the bytes of a file; the path is relative to the document. Raises CannotCall."""
    path = (scope.library.root / scope.library.path).parent / str(name)
    try:
        return path.name, path.read_bytes()
    except OSError as error:
        raise CannotCall(f"cannot read the body: {error}") from None


def encoded(value: Any, media: str) -> tuple[str, bytes]:
    """The complete content type, and the bytes of a value in it."""
    kind = media.partition(";")[0].strip().lower()
    if is_json(kind):
        return media, json.dumps(value, ensure_ascii=False).encode()
    if kind == _FORM and isinstance(value, Mapping):
        pairs = []
        for name, item in value.items():
            if isinstance(item, list):
                items = item
            else:
                items = [item]
            pairs += [(name, _field(each)) for each in items]
        return media, urlencode(pairs).encode()
    if value is None:
        return media, b""
    return media, (value if isinstance(value, str) else json.dumps(value)).encode()


def _field(value: Any) -> str:
    if isinstance(value, dict | list):
        return json.dumps(value)
    return styles.plain(value)


def _multipart(
    operation: Operation, value: Mapping[str, Any], media: str, scope: Scope
) -> tuple[str, bytes]:
    """RFC 7578: one part for each property, and for each item of an array."""
    parts = [
        (name, _part(operation, media, name, value=each, scope=scope))
        for name, item in value.items()
        for each in (item if isinstance(item, list) else [item])
    ]
    if not parts:
        raise CannotCall(f"a payload of {media} needs at least one part")
    import httpx  # few suites send parts, and it takes a while

    request = httpx.Request("POST", "http://body.invalid", files=parts)
    boundary = request.headers["Content-Type"].partition(";")[2]
    return f"{media.partition(';')[0]};{boundary}", request.read()


def _part(
    operation: Operation, media: str, name: str, value: Any, scope: Scope
) -> tuple[str | None, bytes, str]:
    """A part's file name, its bytes and its type: as described, or otherwise guessed from its
    value.
    """
    described = operation.body.get("content", {}).get(media, {})
    given = described.get("encoding", {}).get(name, {}).get("contentType", "").partition(",")[0]
    schema = _property(operation, described.get("schema", {}), name)
    if isinstance(value, dict) and set(value) == {FILE}:
        file, content = _file(scope, value[FILE])
        guessed = given or schema.get("contentMediaType") or mimetypes.guess_type(file)[0]
        return file, content, guessed or _BYTES
    is_file = schema.get("format") == "binary" or "contentMediaType" in schema
    content = _field(value).encode()
    if is_file:
        return name, content, given or schema.get("contentMediaType") or _BYTES
    default = "text/plain"
    if isinstance(value, dict | list):
        default = "application/json"
    kind = given or default
    return (None if kind.startswith("text/plain") else name), content, kind


def _property(operation: Operation, schema: Any, name: str) -> dict[str, Any]:
    """The schema of a part, or of the items of a list of parts; empty if there is none."""
    properties: dict[str, Any] = {}
    for inner in _resolved(operation, schema):
        for part in _resolved(operation, inner.get("properties", {}).get(name)):
            properties.update(part)
    items = properties.get("items")
    if isinstance(items, dict):
        return _property_of_items(operation, items)
    return properties


def _property_of_items(operation: Operation, items: Any) -> dict[str, Any]:
    return {key: value for part in _resolved(operation, items) for key, value in part.items()}


def _resolved(operation: Operation, schema: Any) -> Iterator[dict[str, Any]]:
    """A schema with its references resolved, and the schemas that it combines."""
    if not isinstance(schema, Mapping):
        return
    whole = operation.source.resolved(schema)
    yield whole
    for key in ("allOf", "anyOf", "oneOf"):
        for part in whole.get(key, []):
            yield from _resolved(operation, part)


def _replaced(value: Any, target: str, new: Any, media: str) -> Any:
    if isinstance(value, str) and "xml" in media:
        return _replaced_in_xml(value, target, new)
    names = [n.replace("~1", "/").replace("~0", "~") for n in target.split("/")[1:]]
    if not target.startswith("/") or not names:
        raise CannotCall(f"replacement '{target}' is not a JSON Pointer into the payload")
    return _set(value, names, new, target=target)


def _set(value: Any, names: list[str], new: Any, target: str) -> Any:
    if not names:
        return new
    first, *rest = names
    if isinstance(value, dict):
        if rest and first not in value:
            raise CannotCall(f"replacement '{target}': there is no '{pointer_step(first)}'")
        return {**value, first: _set(value.get(first), rest, new, target=target)}
    if isinstance(value, list) and first.isdecimal() and int(first) < len(value):
        index = int(first)
        return [*value[:index], _set(value[index], rest, new, target=target), *value[index + 1 :]]
    raise CannotCall(f"replacement '{target}': there is no '{pointer_step(first)}'")


def _replaced_in_xml(text: str, target: str, new: Any) -> str:
    from lxml import etree

    from wolfbane.kinds.workflow.runner.criteria import parse_xml

    root = parse_xml(text.encode())
    nodes = root.xpath(target)
    if not isinstance(nodes, list) or not nodes:
        raise CannotCall(f"replacement '{target}' matches nothing in the payload")
    for node in nodes:
        if isinstance(node, etree._Element):
            node.text = styles.plain(new)
        elif node.is_attribute:
            node.getparent().set(node.attrname, styles.plain(new))
        else:
            node.getparent().text = styles.plain(new)
    return str(etree.tostring(root, encoding="unicode"))
