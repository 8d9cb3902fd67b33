"""Checks a workflow of an Arazzo document: its steps, their targets, and its criteria."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import Any

from wolfbane.basis.units import seconds
from wolfbane.errors import did_you_mean
from wolfbane.kinds.workflow import conditions
from wolfbane.kinds.workflow.document_set import DocumentSet
from wolfbane.kinds.workflow.documents import DocumentError
from wolfbane.kinds.workflow.expressions import HOLE, BadExpression
from wolfbane.kinds.workflow.extensions import (
    CHECKS,
    CONNECT,
    CONTRACT,
    READ,
    UNTIL,
    unknown_checks,
)
from wolfbane.kinds.workflow.names import input_names, name_problems

Finding = tuple[str, str]
"""A JSON Pointer into the document, and the error there."""
_WAYS = ("operationId", "operationPath", "workflowId")


@lru_cache(maxsize=64)
def document_problems(library: DocumentSet) -> dict[str, tuple[str, ...]]:
    """The errors of each workflow, by identifier, as texts with file and line.

    Reads every source that is used.
    """
    written = library.document.document
    problems = {}
    for index, name in enumerate(library.document.workflows):
        lines = {
            f"{library.path}:{written.line(pointer)}: {message}": written.line(pointer)
            for pointer, message in workflow_problems(library, index)
        }
        if lines:
            problems[name] = tuple(sorted(lines, key=lines.__getitem__))
    return problems


def workflow_problems(library: DocumentSet, index: int) -> Iterator[Finding]:
    """All errors of one workflow; reads the sources that it uses."""
    workflow = library.document.data["workflows"][index]
    pointer, name = f"/workflows/{index}", workflow["workflowId"]
    for number, needed in enumerate(workflow.get("dependsOn", [])):
        yield from _target(library, needed, f"{pointer}/dependsOn/{number}")
    if name in library.document.circular:
        yield f"{pointer}/dependsOn", f"workflow '{name}' depends on itself"
    ids = [item["stepId"] for item in workflow["steps"]]
    for number, item in enumerate(workflow["steps"]):
        here = f"{pointer}/steps/{number}"
        if item["stepId"] in ids[:number]:
            yield f"{here}/stepId", f"two steps are named '{item['stepId']}'"
        yield from _step_problems(library, item, ids, pointer=here)
    for key in ("successActions", "failureActions", "parameters"):
        yield from _entries(library, workflow.get(key, []), ids, pointer=f"{pointer}/{key}")
    yield from name_problems(library, index)


def _step_problems(
    library: DocumentSet, item: dict[str, Any], ids: list[str], pointer: str
) -> Iterator[Finding]:
    ways = [way for way in _WAYS if way in item]
    if len(ways) != 1:
        message = f"step '{item['stepId']}' needs exactly one of {', '.join(_WAYS)}"
        yield pointer, message + (f", but has {', '.join(ways)}" if ways else "")
    elif "workflowId" in item:
        yield from _call(library, item, pointer)
    else:
        yield from _operation(library, item, pointer)
    for key in ("parameters", "onSuccess", "onFailure"):
        yield from _entries(library, item.get(key, []), ids, pointer=f"{pointer}/{key}")
    yield from _criteria(item.get("successCriteria", []), f"{pointer}/successCriteria")
    yield from _extensions(item, pointer)
    yield from _template(item.get("requestBody", {}), f"{pointer}/requestBody/payload")


def _operation(library: DocumentSet, item: dict[str, Any], pointer: str) -> Iterator[Finding]:
    for index, entry in enumerate(item.get("parameters", [])):
        if "reference" not in entry and "in" not in entry:
            message = f"parameter '{entry['name']}' has no 'in'"
            yield f"{pointer}/parameters/{index}", message
    try:
        operation = library.operation(item)
    except (ValueError, OSError) as error:
        yield pointer, str(error)
        return
    schemes = operation.source.security_schemes
    for name in dict.fromkeys(name for each in operation.security for name in each):
        if name not in schemes:
            message = f"operation '{operation.name}' requires the security scheme '{name}', but"
            hint = did_you_mean(name, schemes)
            yield pointer, f"{message} its description does not define; {hint}".removesuffix("; ")


def _call(library: DocumentSet, item: dict[str, Any], pointer: str) -> Iterator[Finding]:
    """A step that calls a workflow: the workflow must exist and must have the given inputs."""
    target = item["workflowId"]
    problems = list(_target(library, target, f"{pointer}/workflowId"))
    yield from problems
    if problems:
        return
    other, name = library.workflow(target)
    known = None
    if other is not library:
        known = input_names(other, name)
    described = other.document.workflows[name].get("inputs", {})
    if isinstance(described, Mapping) and described.get("additionalProperties") is False:
        known = set(described.get("properties", {}))
    for index, entry in enumerate(item.get("parameters", [])):
        given = entry.get("name", "")
        if known is not None and given and given not in known:
            message = f"workflow '{target}' has no input '{given}'; {did_you_mean(given, known)}"
            yield f"{pointer}/parameters/{index}", message.removesuffix("; ")


def _target(library: DocumentSet, target: str, pointer: str) -> Iterator[Finding]:
    """A named workflow must exist, in this document or in another."""
    try:
        library.workflow(target)
    except DocumentError as error:
        yield pointer, f"cannot read the document of '{target}': {error}"
    except (ValueError, OSError) as error:
        yield pointer, str(error)


def _entries(
    library: DocumentSet, entries: list[dict[str, Any]], ids: list[str], pointer: str
) -> Iterator[Finding]:
    """Parameters and actions, or references to them."""
    for index, entry in enumerate(entries):
        here = f"{pointer}/{index}"
        try:
            item = library.document.resolved(entry)
        except (KeyError, TypeError):
            yield here, _no_component(library, str(entry["reference"]))
            continue
        if "type" in item:
            yield from _action(library, item, ids, pointer=here)


def _no_component(library: DocumentSet, reference: str) -> str:
    group, _, name = reference.removeprefix("$components.").partition(".")
    known = library.document.data.get("components", {}).get(group, {})
    message = f"there is no component '{reference}'; {did_you_mean(name, known)}"
    return message.removesuffix("; ")


def _action(
    library: DocumentSet, action: dict[str, Any], ids: list[str], pointer: str
) -> Iterator[Finding]:
    targets = [key for key in ("workflowId", "stepId") if key in action]
    name = action["name"]
    if len(targets) > 1 or (action["type"] == "goto" and not targets):
        yield pointer, f"action '{name}' of type {action['type']} needs workflowId or stepId"
    if action["type"] == "end" and targets:
        yield (
            pointer,
            f"action '{name}' ends the workflow, so it cannot have {' or '.join(targets)}",
        )
    if "stepId" in action and action["stepId"] not in ids:
        hint = did_you_mean(action["stepId"], ids)
        message = f"there is no step '{action['stepId']}'; {hint}"
        yield f"{pointer}/stepId", message.removesuffix("; ")
    if "workflowId" in action:
        yield from _target(library, action["workflowId"], f"{pointer}/workflowId")
    yield from _criteria(action.get("criteria", []), f"{pointer}/criteria")


def _criteria(entries: list[dict[str, Any]], pointer: str) -> Iterator[Finding]:
    for index, entry in enumerate(entries):
        yield from _criterion(entry, f"{pointer}/{index}")


def _criterion(entry: dict[str, Any], pointer: str) -> Iterator[Finding]:
    kind = entry.get("type", "simple")
    kind = kind["type"] if isinstance(kind, dict) else kind
    problem = _condition_problem(kind, entry["condition"])
    if problem:
        yield f"{pointer}/condition", problem
    if kind != "simple" and "context" not in entry:
        yield pointer, f"a criterion of type {kind} needs a 'context'"


def _condition_problem(kind: str, text: str) -> str:
    try:
        if kind == "simple":
            conditions.parse(text)
        elif kind == "regex":
            re.compile(text)
        elif kind == "jsonpath":
            from jsonpath_rfc9535 import JSONPathError
            from jsonpath_rfc9535 import compile as compile_path

            try:
                compile_path(text)
            except JSONPathError as error:
                return f"not a JSONPath: {text}: {error}"
        else:
            from lxml import etree

            etree.XPath(text)
    except BadExpression as error:
        return str(error)
    except re.error as error:
        return f"not a regular expression: {text}: {error}"
    except Exception as error:  # lxml's XPathSyntaxError, without importing it for the others
        return f"not an XPath: {text}: {error}"
    return ""


def _extensions(item: Mapping[str, Any], pointer: str) -> Iterator[Finding]:
    """The fields that are Wolfbane's own."""
    checks = item.get(CONTRACT, [])
    if not isinstance(checks, list):
        message = (
            f"'{CONTRACT}' must be a list of checks ({', '.join(CHECKS)}); "
            f"an empty list means no checks"
        )
        yield f"{pointer}/{CONTRACT}", message
    else:
        yield from ((f"{pointer}/{CONTRACT}", message) for message in unknown_checks(checks))
    for key in (READ, CONNECT):
        try:
            seconds(item.get(key, 1))
        except ValueError as error:
            yield f"{pointer}/{key}", f"'{key}': {error}"
    until = item.get(UNTIL)
    if isinstance(until, dict) and isinstance(until.get("condition"), str):
        yield from _criterion(until, f"{pointer}/{UNTIL}")
    elif isinstance(until, str):
        yield from _criterion({"condition": until}, f"{pointer}/{UNTIL}")
    elif until is not None:
        yield (
            f"{pointer}/{UNTIL}",
            f"'{UNTIL}' must be a condition, or a criterion with a 'condition'",
        )


def _template(body: Mapping[str, Any], pointer: str) -> Iterator[Finding]:
    """A text that is meant as JSON must be valid JSON, whatever the values of its expressions."""
    payload = body.get("payload")
    if not isinstance(payload, str) or "json" not in body.get("contentType", "json"):
        return
    if problem := json_problem(HOLE.sub("0", payload)):
        yield pointer, f"the payload is not valid JSON: {problem}"


def json_problem(text: str) -> str:
    """Why a text that starts as an object or an array is not JSON; empty if it is valid."""
    if text.lstrip()[:1] not in ("{", "["):
        return ""
    try:
        json.loads(text)
    except (ValueError, RecursionError) as error:
        return str(error)
    return ""
