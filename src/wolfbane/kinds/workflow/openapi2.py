"""Converts OpenAPI 2.0 descriptions to 3.0, as far as possible."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

_METHODS = ("get", "put", "post", "delete", "options", "head", "patch")
_REFERENCES = {
    "#/definitions/": "#/components/schemas/",
    "#/responses/": "#/components/responses/",
    "#/parameters/": "#/components/parameters/",
}
_OF_SCHEMA = (
    "type",
    "format",
    "items",
    "enum",
    "default",
    "maximum",
    "minimum",
    "pattern",
    "maxLength",
    "minLength",
    "maxItems",
    "minItems",
    "uniqueItems",
    "multipleOf",
)
_STYLES = {
    "csv": ("simple", "form", False),
    "multi": ("form", "form", True),
    "ssv": ("simple", "spaceDelimited", False),
    "pipes": ("simple", "pipeDelimited", False),
}


def as_version_3(data: Mapping[str, Any]) -> dict[str, Any]:
    """The complete description; features that 3.0 lacks are left out."""
    host, base = data.get("host", ""), data.get("basePath", "")
    schemes = data.get("schemes") or (["https"] if host else [])
    if host:
        urls = [f"{scheme}://{host}{base}" for scheme in schemes]
    else:
        urls = [base or "/"]
    parameters = {
        name: _parameter(entry)
        for name, entry in data.get("parameters", {}).items()
        if entry.get("in") not in ("body", "formData")
    }
    whole = {
        "openapi": "3.0.3",
        "info": data.get("info", {}),
        "servers": [{"url": url} for url in urls],
        "paths": {path: _path(item, data) for path, item in data.get("paths", {}).items()},
        "components": {
            "schemas": data.get("definitions", {}),
            "parameters": parameters,
            "responses": {
                name: _response(entry, data.get("produces", []))
                for name, entry in data.get("responses", {}).items()
            },
            "securitySchemes": {
                name: _security(entry)
                for name, entry in data.get("securityDefinitions", {}).items()
            },
        },
    }
    if "security" in data:
        whole["security"] = data["security"]
    description: dict[str, Any] = _moved(whole)
    return description


def _moved(value: Any) -> Any:
    """References to the places in 3.0."""
    if isinstance(value, dict):
        reference = value.get("$ref")
        if isinstance(reference, str):
            for old, new in _REFERENCES.items():
                if reference.startswith(old):
                    return {"$ref": new + reference[len(old) :]}
        return {key: _moved(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_moved(item) for item in value]
    return value


def _path(item: Mapping[str, Any], data: Mapping[str, Any]) -> dict[str, Any]:
    shared = [_found(entry, data) for entry in item.get("parameters", [])]
    path: dict[str, Any] = {}
    for method, operation in item.items():
        if method in _METHODS:
            path[method] = _operation(operation, shared, data)
    return path


def _found(entry: Mapping[str, Any], data: Mapping[str, Any]) -> Mapping[str, Any]:
    name = str(entry.get("$ref", "")).removeprefix("#/parameters/")
    parameter: Mapping[str, Any] = data.get("parameters", {}).get(name, entry)
    return parameter


def _operation(
    operation: Mapping[str, Any], shared: list[Mapping[str, Any]], data: Mapping[str, Any]
) -> dict[str, Any]:
    own = [_found(entry, data) for entry in operation.get("parameters", [])]
    names = {(entry.get("in"), entry.get("name")) for entry in own}
    entries = [*own, *(e for e in shared if (e.get("in"), e.get("name")) not in names)]
    produces = operation.get("produces", data.get("produces", []))
    converted = {
        key: value
        for key, value in operation.items()
        if key not in ("parameters", "consumes", "produces", "schemes", "responses")
    }
    converted["parameters"] = [
        _parameter(e) for e in entries if e["in"] not in ("body", "formData")
    ]
    converted["responses"] = {
        status: _response(entry, produces) for status, entry in operation["responses"].items()
    }
    body = _body(entries, operation.get("consumes", data.get("consumes", [])))
    if body:
        return {**converted, "requestBody": body}
    return converted


def _body(entries: list[Mapping[str, Any]], consumes: list[str]) -> dict[str, Any]:
    for entry in entries:
        if entry["in"] == "body":
            types = consumes or ["application/json"]
            content = {media: {"schema": entry.get("schema", {})} for media in types}
            return {"required": entry.get("required", False), "content": content}
    fields = [entry for entry in entries if entry["in"] == "formData"]
    if not fields:
        return {}
    has_file = any(entry.get("type") == "file" for entry in fields)
    media = "application/x-www-form-urlencoded"
    if has_file:
        media = "multipart/form-data"
    schema = {
        "type": "object",
        "properties": {
            entry["name"]: {"type": "string", "format": "binary"}
            if entry.get("type") == "file"
            else {key: entry[key] for key in _OF_SCHEMA if key in entry}
            for entry in fields
        },
        "required": [entry["name"] for entry in fields if entry.get("required")],
    }
    return {"content": {kind: {"schema": schema} for kind in consumes or [media]}}


def _parameter(entry: Mapping[str, Any]) -> dict[str, Any]:
    if "$ref" in entry:
        return dict(entry)
    parameter: dict[str, Any] = {
        key: entry[key] for key in ("name", "in", "required", "description") if key in entry
    }
    parameter["schema"] = {key: entry[key] for key in _OF_SCHEMA if key in entry}
    simple, form, explode = _STYLES.get(entry.get("collectionFormat", "csv"), _STYLES["csv"])
    parameter["style"] = form if entry["in"] == "query" else simple
    parameter["explode"] = explode
    return parameter


def _response(entry: Mapping[str, Any], produces: list[str]) -> dict[str, Any]:
    if "$ref" in entry:
        return dict(entry)
    response = {key: value for key, value in entry.items() if key not in ("schema", "headers")}
    response["headers"] = {
        name: {"schema": {key: header[key] for key in _OF_SCHEMA if key in header}}
        for name, header in entry.get("headers", {}).items()
    }
    if "schema" in entry:
        types = produces or ["application/json"]
        response["content"] = {media: {"schema": entry["schema"]} for media in types}
    return response


def _security(entry: Mapping[str, Any]) -> dict[str, Any]:
    if entry.get("type") == "basic":
        return {"type": "http", "scheme": "basic"}
    if entry.get("type") != "oauth2":
        return dict(entry)
    flow = {"application": "clientCredentials", "accessCode": "authorizationCode"}
    name = flow.get(entry["flow"], entry["flow"])
    kept = {k: entry[k] for k in ("authorizationUrl", "tokenUrl", "scopes") if k in entry}
    return {"type": "oauth2", "flows": {name: kept}}
