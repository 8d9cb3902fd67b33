"""Builds a request from a step and its operation: its address and parameters."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote, urlsplit

from wolfbane.kinds.workflow import styles
from wolfbane.kinds.workflow.openapi import Operation
from wolfbane.kinds.workflow.runner.bodies import CannotCall, make_body
from wolfbane.kinds.workflow.runner.scope import Call, Scope

_HOLE = re.compile(r"\{([^{}]+)\}")


def base_url(operation: Operation, given: str) -> str:
    """The URL before each path: the setting, or the description's first server, filled in."""
    if given:
        return given.rstrip("/")
    if urlsplit(operation.address).scheme not in ("http", "https"):
        message = (
            f"the server in the description is '{operation.address}', "
            f"which is not a complete address"
        )
        raise CannotCall(f"{message}; set the suite's http.base_url")
    return operation.address


def make_call(
    operation: Operation, step: Mapping[str, Any], shared: list[Any], scope: Scope, base: str
) -> Call:
    """The request of a step. ``shared`` are the workflow's parameters. Raises CannotCall."""
    document = scope.library.document
    values: dict[tuple[str, str], Any] = {}
    for entry in (*shared, *step.get("parameters", [])):
        parameter = document.resolved(entry)
        location = parameter.get("in", "query")
        values[location, parameter["name"]] = scope.value(parameter["value"])
    for (location, name), described in operation.parameters.items():
        missing = values.get((location, name)) is None
        if missing and described.get("required"):
            raise CannotCall(f"parameter '{name}' ({location}) has no value")
    path = _path(operation, values)
    query = [
        _in_query(operation, name, value)
        for (location, name), value in values.items()
        if location == "query" and value is not None
    ]
    url = base + path + ("?" + "&".join(filter(None, query)) if any(query) else "")
    headers = _headers(operation, values)
    body, content = make_body(operation, step.get("requestBody"), scope, headers=headers)
    by_place = {
        location: {name: value for (where, name), value in values.items() if where == location}
        for location in ("query", "path")
    }
    return Call(
        method=operation.method,
        url=url,
        headers=headers,
        query=by_place["query"],
        path=by_place["path"],
        body=body,
        content=content,
    )


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
    headers = {}
    cookies = []
    for (location, name), value in values.items():
        described = operation.parameters.get((location, name), {"in": location})
        if value is None or location not in ("header", "cookie"):
            continue
        if "content" in described:
            text = json.dumps(value)
        elif location == "header":
            text = styles.in_header(value, explode=styles.style_of(described)[1])
        if location == "header":
            headers[name] = text
        else:
            cookies.append(styles.in_cookie(name, value, explode=styles.style_of(described)[1]))
    if cookies:
        return {**headers, "Cookie": "; ".join(cookies)}
    return headers
