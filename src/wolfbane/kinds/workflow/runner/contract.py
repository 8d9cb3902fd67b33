"""Checks every response against the API description: status, type, headers, body."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin

from wolfbane.kinds.workflow.documents import step as pointer_step
from wolfbane.kinds.workflow.extensions import CONTRACT
from wolfbane.kinds.workflow.openapi import OpenAPI, Operation
from wolfbane.kinds.workflow.runner.criteria import shortened
from wolfbane.kinds.workflow.runner.scope import Answer, is_json

_MOST = 5


@dataclass(frozen=True)
class Mismatch:
    """A mismatch: the check, the place in the response, and the expected and actual values."""

    check: str
    pointer: str
    expected: str
    actual: str

    def __str__(self) -> str:
        position = ""
        if self.pointer:
            position = f" at {self.pointer}"
        return f"{self.check}{position}: expected {self.expected}, found {self.actual}"


class Contract:
    """The active checks; validators are created once."""

    def __init__(self, checks: Collection[str]) -> None:
        self._given = checks
        self._validators: dict[tuple[str, str], Any] = {}
        self._registries: dict[str, Any] = {}

    def mismatches(
        self, operation: Operation, answer: Answer, step: Mapping[str, Any]
    ) -> list[Mismatch]:
        """All mismatches, as texts.

        ``x-contract`` of the step, or otherwise of the operation, replaces the suite's checks.
        """
        checks = step.get(CONTRACT, operation.data.get(CONTRACT, self._given))
        if not checks:
            return []
        described = operation.response(answer.status)
        if described is None:
            known = ", ".join(operation.data.get("responses", {}))
            status = str(answer.status)
            return [
                Mismatch(check="status", pointer="", expected=f"one of {known}", actual=status)
            ] * ("status" in checks)
        key, response = described
        mismatches: list[Mismatch] = []
        if "headers" in checks:
            mismatches += self._headers(operation, key, response, answer=answer)
        content = response.get("content", {})
        media = _media(content, answer.media_type)
        if content and answer.content and not media:
            media_type = answer.media_type or "no content type"
            expected = " or ".join(content)
            return [
                *mismatches,
                *[Mismatch(check="type", pointer="", expected=expected, actual=media_type)]
                * ("type" in checks),
            ]
        if media and "body" in checks and operation.method != "HEAD":
            mismatches += self._body(operation, key, media, described=content[media], answer=answer)
        return mismatches

    def prepare(self, operation: Operation) -> None:
        """Compile what is needed to check the responses of an operation.

        The first use of a schema takes much longer than the others.
        """
        for key, entry in operation.data.get("responses", {}).items():
            response = operation.source.resolved(entry)
            pointer = f"{operation.pointer}/responses{pointer_step(key)}"
            schemas = [
                (f"{pointer}/{part}{pointer_step(name)}/schema", answer["schema"])
                for part in ("headers", "content")
                for name, given in response.get(part, {}).items()
                if "schema" in (answer := operation.source.resolved(given))
            ]
            for where, schema in schemas:
                values: tuple[Any, ...] = (None, {}, [])
                for value in values:  # rules of objects and arrays are apart
                    list(self._validator(operation.source, where, schema).iter_errors(value))

    def _headers(
        self, operation: Operation, key: str, response: Mapping[str, Any], answer: Answer
    ) -> Iterator[Mismatch]:
        for name, entry in response.get("headers", {}).items():
            header = operation.source.resolved(entry)
            value = answer.headers.get(name)
            if name.lower() == "content-type":
                continue
            if value is None:
                if header.get("required"):
                    yield Mismatch(
                        check="headers", pointer=name, expected="a value", actual="nothing"
                    )
                continue
            if "schema" not in header:
                continue
            pointer = f"{operation.pointer}/responses{pointer_step(key)}/headers"
            pointer += f"{pointer_step(name)}/schema"
            validator = self._validator(operation.source, pointer, header["schema"])
            errors = list(validator.iter_errors(_typed(value, header["schema"])))
            for error in errors[:1]:
                yield Mismatch(check="headers", pointer=name, expected=error.message, actual=value)

    def _body(
        self,
        operation: Operation,
        key: str,
        media: str,
        described: Mapping[str, Any],
        answer: Answer,
    ) -> Iterator[Mismatch]:
        if not is_json(answer.media_type):
            return
        try:
            value = json.loads(answer.content)
        except (ValueError, RecursionError) as broken:
            yield Mismatch(
                check="body", pointer="", expected="JSON", actual=f"invalid JSON ({broken})"
            )
            return
        if "schema" not in described:
            return
        schema_pointer = (
            f"{operation.pointer}/responses{pointer_step(key)}/content{pointer_step(media)}/schema"
        )
        validator = self._validator(operation.source, schema_pointer, described["schema"])
        for error in list(validator.iter_errors(value))[:_MOST]:
            inmost = _inmost(error)
            pointer = "".join(map(pointer_step, inmost.absolute_path)) or "/"
            instance = shortened(json.dumps(inmost.instance, ensure_ascii=False))
            yield Mismatch(
                check="body", pointer=pointer, expected=_expected(inmost), actual=instance
            )

    def _validator(self, source: OpenAPI, pointer: str, schema: Any) -> Any:
        """A validator of a schema whose references are resolved in its description."""
        key = (source.address, pointer)
        if key not in self._validators:
            self._validators[key] = self._made(source, schema)
        return self._validators[key]

    def _made(self, source: OpenAPI, schema: Any) -> Any:
        if source.address not in self._registries:
            self._registries[source.address] = _registry(source)
        kind = _kind(source.version)
        return kind(
            _absolute(schema, source.address),
            registry=self._registries[source.address],
            format_checker=kind.FORMAT_CHECKER,
        )


def _kind(version: str) -> Any:
    """The validator for a version's schemas; the package for the older one is slow to import."""
    if version == "3.1":
        from jsonschema import Draft202012Validator

        return Draft202012Validator
    from openapi_schema_validator import OAS30ReadValidator

    return OAS30ReadValidator


def _registry(source: OpenAPI) -> Any:
    """Resolves references in the description, and in the files that it refers to."""
    import referencing
    from referencing.exceptions import NoSuchResource
    from referencing.jsonschema import DRAFT202012

    resource: Any = referencing.Resource
    registry: Any = referencing.Registry

    def retrieve(uri: str) -> Any:
        try:
            return resource(contents=source.load(uri).data, specification=DRAFT202012)
        except (OSError, ValueError):
            raise NoSuchResource(uri) from None

    whole = resource(contents=source.data, specification=DRAFT202012)
    return registry(retrieve=retrieve).with_resource(source.address, whole)


def _absolute(value: Any, base: str) -> Any:
    """A schema with complete URLs in its references, because it is read separately."""
    if isinstance(value, Mapping):
        return {
            key: urljoin(base, item)
            if key == "$ref" and isinstance(item, str)
            else _absolute(item, base)
            for key, item in value.items()
        }
    if isinstance(value, list):
        return [_absolute(item, base) for item in value]
    return value


def _media(content: Mapping[str, Any], media_type: str) -> str:
    """The best matching described media type: the same, ``type/*``, ``*/*``."""
    by_name = {name.partition(";")[0].strip().lower(): name for name in content}
    group = media_type.partition("/")[0] + "/*"
    for candidate in (media_type, group, "*/*"):
        if candidate in by_name:
            return by_name[candidate]
    return ""


def _typed(value: str, schema: Mapping[str, Any]) -> Any:
    """A header's text, converted to the type in its schema."""
    kind = schema.get("type")
    try:
        if kind == "integer":
            return int(value)
        if kind == "number":
            return float(value)
    except ValueError:
        return value
    if kind == "boolean" and value in ("true", "false"):
        return value == "true"
    if kind == "array":
        return [item.strip() for item in value.split(",")]
    return value


def _inmost(error: Any) -> Any:
    """The alternative that matched furthest gives the best message."""
    while error.context:
        error = max(error.context, key=lambda inner: len(inner.absolute_path))
    return error


def _expected(error: Any) -> str:
    rule, value = error.validator, error.validator_value
    if rule == "required":
        missing = [name for name in value if name not in error.instance]
        if len(missing) > 1:
            return "the fields " + ", ".join(missing)
        return f"a field '{missing[0]}'"
    names = {"type": "type ", "enum": "one of ", "const": "", "format": "format ", "pattern": ""}
    if rule in names:
        if isinstance(value, str):
            shown = value
        else:
            shown = json.dumps(value, ensure_ascii=False)
        return names[rule] + shown
    return shortened(str(error.message))
