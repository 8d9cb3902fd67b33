"""Reads OpenAPI descriptions: operations, with all references resolved."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any
from urllib.parse import urldefrag, urljoin, urlsplit

from wolfbane.errors import Problem
from wolfbane.kinds.workflow.arazzo import BadDocument
from wolfbane.kinds.workflow.documents import Document, DocumentError, look_up, step
from wolfbane.kinds.workflow.openapi2 import as_version_3

METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")
Load = Callable[[str], Document]


class BadReference(DocumentError):
    """A ``$ref`` that cannot be resolved."""


_HOLE = re.compile(r"\{([^{}]+)\}")


@dataclass(frozen=True)
class Operation:
    """One operation: ``method`` (upper case), ``path`` as described, and its object."""

    source: OpenAPI = field(repr=False, compare=False)
    method: str
    path: str
    pointer: str
    data: Mapping[str, Any] = field(repr=False, compare=False)
    item: Mapping[str, Any] = field(repr=False, compare=False)

    @property
    def name(self) -> str:
        """Its identifier, or method and path if it has none."""
        return str(self.data.get("operationId") or f"{self.method} {self.path}")

    @cached_property
    def address(self) -> str:
        """The URL of the first server, with its variables filled in, relative to the description.

        If that is not a complete URL, the text as written.
        """
        server = self.servers[0]
        variables = server.get("variables", {})
        url = _HOLE.sub(
            lambda hole: str(variables.get(hole[1], {}).get("default", "")), server["url"]
        )
        joined = urljoin(self.source.address, url)
        return (joined if urlsplit(joined).scheme in ("http", "https") else url).rstrip("/")

    @cached_property
    def parameters(self) -> dict[tuple[str, str], dict[str, Any]]:
        """Parameter Objects by place and name; the operation's own override the path's."""
        parameters = {}
        for entry in (*self.item.get("parameters", []), *self.data.get("parameters", [])):
            parameter = self.source.resolved(entry)
            parameters[parameter["in"], parameter["name"]] = parameter
        return parameters

    @cached_property
    def body(self) -> dict[str, Any]:
        """The Request Body Object, empty without one."""
        return self.source.resolved(self.data.get("requestBody", {}))

    @property
    def servers(self) -> list[dict[str, Any]]:
        """The nearest ``servers``: the operation's, the path's or the description's."""
        for level in (self.data, self.item, self.source.data):
            if level.get("servers"):
                return list(level["servers"])
        return [{"url": "/"}]

    @property
    def security(self) -> list[dict[str, list[str]]]:
        """The alternatives, one of which must be met; empty if nothing is required."""
        requirements: list[dict[str, list[str]]] = self.data.get(
            "security", self.source.data.get("security", [])
        )
        return requirements

    def response(self, status: int) -> tuple[str, dict[str, Any]] | None:
        """The Response Object for a status and the key it is under: 404, 4XX or default."""
        responses = self.data.get("responses", {})
        for key in (str(status), f"{status // 100}XX", f"{status // 100}xx", "default"):
            if key in responses:
                return key, self.source.resolved(responses[key])
        return None


@dataclass(frozen=True)
class OpenAPI:
    """A description. ``address`` is its origin; ``load`` reads the documents that it refers to."""

    name: str
    address: str
    document: Document
    load: Load
    data: Mapping[str, Any]

    @property
    def version(self) -> str:
        """``2.0``, ``3.0`` or ``3.1``, the version in the document."""
        written = self.document.data
        return str(written.get("swagger") or written["openapi"])[:3]

    @cached_property
    def operations(self) -> list[Operation]:
        """Every operation, in the order of the description."""
        return list(self._read())

    @cached_property
    def by_id(self) -> dict[str, Operation]:
        """Operations that have an identifier, by it."""
        operations: dict[str, Operation] = {}
        for operation in self.operations:
            if "operationId" in operation.data:
                operations.setdefault(operation.data["operationId"], operation)
        return operations

    @cached_property
    def by_pointer(self) -> dict[str, Operation]:
        """Operations by JSON Pointer into the description."""
        return {operation.pointer: operation for operation in self.operations}

    @property
    def security_schemes(self) -> dict[str, dict[str, Any]]:
        """Security Scheme Objects by name."""
        schemes: dict[str, dict[str, Any]] = self.data.get("components", {}).get(
            "securitySchemes", {}
        )
        return schemes

    def _read(self) -> Iterator[Operation]:
        for path, entry in self.data.get("paths", {}).items():
            try:
                item = self.resolved(entry)
            except BadReference as error:
                line = self.document.line(f"/paths{step(path)}")
                raise BadDocument([Problem(str(error), self.name, line)]) from None
            for method in METHODS:
                if isinstance(item.get(method), dict):
                    pointer = f"/paths{step(path)}/{method}"
                    yield Operation(
                        source=self,
                        method=method.upper(),
                        path=path,
                        pointer=pointer,
                        data=item[method],
                        item=item,
                    )

    def resolved(self, entry: Mapping[str, Any]) -> dict[str, Any]:
        """The object behind a ``$ref``, also through several references. Raises BadReference."""
        resolved: Any = entry
        seen = set()
        base = self.address
        while isinstance(resolved, Mapping) and "$ref" in resolved:
            target = urljoin(base, str(resolved["$ref"]))
            if target in seen:
                raise BadReference(f"{resolved['$ref']} refers to itself")
            seen.add(target)
            base, pointer = urldefrag(target)
            try:
                if base == self.address:
                    document = self.data
                else:
                    document = self.load(base).data
                resolved = look_up(document, pointer)
            except (KeyError, OSError, ValueError) as error:
                raise BadReference(f"cannot resolve '{resolved['$ref']}': {error}") from None
        if not isinstance(resolved, Mapping):
            raise BadReference(f"{resolved!r} is not an object")
        return dict(resolved)


def read(text: str, name: str, address: str, load: Load, *, check: bool = True) -> OpenAPI:
    """Read and check a description. Raises DocumentError, or BadDocument with every problem.

    Without ``check``, it is known to be valid.
    """
    document = Document(text)
    data = document.data
    version = ""
    if isinstance(data, dict):
        version = str(data.get("swagger") or data.get("openapi"))
    if version[:3] not in ("2.0", "3.0", "3.1"):
        reason = "the document is not an OpenAPI description (2.0, 3.0 or 3.1)"
        raise BadDocument([Problem(reason, name, 1)])
    problems = [
        Problem(message, name, document.line(pointer))
        for pointer, message in (_problems(data, version[:3]) if check else ())
    ]
    if problems:
        raise BadDocument(sorted(dict.fromkeys(problems), key=lambda problem: problem.line))
    if version[:3] == "2.0":
        whole = as_version_3(data)
    else:
        whole = data
    return OpenAPI(name=name, address=address, document=document, load=load, data=whole)


def _problems(data: Mapping[str, Any], version: str) -> Iterator[tuple[str, str]]:
    """The violations of the standard's own JSON Schema."""
    from jsonschema.validators import validator_for
    from openapi_spec_validator.schemas import (
        get_schema_content_v2,
        get_schema_content_v30,
        get_schema_content_v31,
    )

    contents = {
        "2.0": get_schema_content_v2,
        "3.0": get_schema_content_v30,
        "3.1": get_schema_content_v31,
    }
    schema: Any = contents[version]()
    for error in validator_for(schema)(schema).iter_errors(data):
        deepest = error
        while deepest.context:
            deepest = max(deepest.context, key=lambda inner: len(inner.absolute_path))
        pointer = "".join(map(step, deepest.absolute_path))
        subject = pointer.rpartition("/")[2].replace("~1", "/") or "the description"
        yield pointer, f"'{subject}': {deepest.message}"[:300]
