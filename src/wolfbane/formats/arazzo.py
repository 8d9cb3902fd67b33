"""Read and check Arazzo 1.0 documents: workflows over operations that OpenAPI describes."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache, cached_property
from pathlib import Path
from typing import Any

from wolfbane.errors import Problem, did_you_mean
from wolfbane.formats import conditions, expressions
from wolfbane.formats.documents import Document, DocumentError, look_up, step
from wolfbane.formats.expressions import BadExpression

_SCHEMA = Path(__file__).parent / "schemas" / "arazzo-1.0.json"
_WAYS = ("operationId", "operationPath", "workflowId")


class BadDocument(DocumentError):
    """A document that breaks the standard, with every problem that was found."""

    def __init__(self, problems: list[Problem]) -> None:
        self.problems = problems
        super().__init__("\n".join(map(str, problems)), problems[0].line)


@dataclass(frozen=True)
class Arazzo:
    """A checked document. Everything of it is in ``data``, as it was written."""

    name: str
    document: Document

    @property
    def data(self) -> dict[str, Any]:
        """The whole document."""
        data: dict[str, Any] = self.document.data
        return data

    @cached_property
    def workflows(self) -> dict[str, dict[str, Any]]:
        """Workflows by their identifiers, in order."""
        return {workflow["workflowId"]: workflow for workflow in self.data["workflows"]}

    @cached_property
    def sources(self) -> dict[str, dict[str, Any]]:
        """Source descriptions by name."""
        return {source["name"]: source for source in self.data["sourceDescriptions"]}

    @cached_property
    def positions(self) -> dict[str, int]:
        """Where workflows stand in the list of them, by their identifiers."""
        return {name: position for position, name in enumerate(self.workflows)}

    def resolved(self, entry: dict[str, Any]) -> dict[str, Any]:
        """A Reusable Object's component, with the value that overrides it. Raises KeyError."""
        if "reference" not in entry:
            return entry
        names = entry["reference"].removeprefix("$").split(".")
        found: dict[str, Any] = dict(look_up(self.data, "".join(map(step, names))))
        return {**found, "value": entry["value"]} if "value" in entry else found

    def depends_on(self, workflow: str) -> list[str]:
        """The workflows of this document that have to run before."""
        known = self.workflows
        return [name for name in known[workflow].get("dependsOn", []) if name in known]


def read(text: str, name: str, *, check: bool = True) -> Arazzo:
    """Read and check a document. Raises DocumentError, or BadDocument with every problem.

    Without ``check`` it is known to be right.
    """
    document = Document(text)
    if not check:
        return Arazzo(name, document)
    problems = [
        Problem(message, name, document.line(pointer), hint)
        for pointer, message, hint in _shape_problems(document.data)
    ]
    if not problems:
        found = Arazzo(name, document)
        problems = [
            Problem(message, name, document.line(pointer), hint)
            for pointer, message, hint in _meaning_problems(found)
        ]
    if problems:
        raise BadDocument(sorted(dict.fromkeys(problems), key=lambda problem: problem.line))
    return found


Finding = tuple[str, str, str]


@cache
def _validator() -> Any:
    from jsonschema import Draft202012Validator

    return Draft202012Validator(json.loads(_SCHEMA.read_text(encoding="utf-8")))


def _shape_problems(data: Any) -> Iterator[Finding]:
    for error in _validator().iter_errors(data):
        yield from _finding(error)


def _finding(error: Any) -> Iterator[Finding]:
    pointer = "".join(map(step, error.absolute_path))
    place = pointer.rpartition("/")[2] or "the document"
    if error.validator == "unevaluatedProperties":
        known = list(error.schema.get("properties", {}))
        for key in error.instance if isinstance(error.instance, dict) else ():
            if key not in known and not key.startswith("x-"):
                yield pointer + step(key), f"unknown field '{key}'", did_you_mean(key, known)
    elif error.validator == "required":
        missing = [key for key in error.validator_value if key not in error.instance]
        for key in missing:
            yield pointer, f"'{key}' is missing in {place}", ""
    elif error.validator == "enum":
        hint = did_you_mean(str(error.instance), map(str, error.validator_value))
        yield pointer, f"'{place}' is '{error.instance}'", hint
    elif error.validator == "pattern":
        yield pointer, f"'{place}' is '{error.instance}', which is none", ""
    else:
        yield pointer, f"'{place}': {error.message}"[:300], ""


def _meaning_problems(arazzo: Arazzo) -> Iterator[Finding]:
    seen: set[str] = set()
    for index, workflow in enumerate(arazzo.data["workflows"]):
        place = f"/workflows/{index}"
        name = workflow["workflowId"]
        if name in seen:
            yield f"{place}/workflowId", f"two workflows are named '{name}'", ""
        seen.add(name)
        yield from _workflow_problems(arazzo, workflow, place)
    yield from _circles(arazzo)


def _workflow_problems(arazzo: Arazzo, workflow: dict[str, Any], place: str) -> Iterator[Finding]:
    known = list(arazzo.workflows)
    for index, name in enumerate(workflow.get("dependsOn", [])):
        if not name.startswith("$") and name not in known:
            yield f"{place}/dependsOn/{index}", f"no workflow '{name}'", did_you_mean(name, known)
    ids = [item["stepId"] for item in workflow["steps"]]
    for index, item in enumerate(workflow["steps"]):
        here = f"{place}/steps/{index}"
        if item["stepId"] in ids[:index]:
            yield f"{here}/stepId", f"two steps are named '{item['stepId']}'", ""
        yield from _step_problems(arazzo, item, ids, here)
    for key in ("successActions", "failureActions", "parameters"):
        yield from _entries(arazzo, workflow.get(key, []), ids, f"{place}/{key}")
    for name, text in workflow.get("outputs", {}).items():
        yield from _expression(text, f"{place}/outputs{step(name)}")


def _step_problems(
    arazzo: Arazzo, item: dict[str, Any], ids: list[str], place: str
) -> Iterator[Finding]:
    ways = [way for way in _WAYS if way in item]
    if len(ways) != 1:
        words = f"step '{item['stepId']}' needs one of {', '.join(_WAYS)}"
        yield place, words + (f", and has {', '.join(ways)}" if ways else ""), ""
    target = item.get("workflowId", "")
    if target and not target.startswith("$") and target not in arazzo.workflows:
        hint = did_you_mean(target, arazzo.workflows)
        yield f"{place}/workflowId", f"there is no workflow '{target}'", hint
    for key in ("parameters", "onSuccess", "onFailure"):
        yield from _entries(arazzo, item.get(key, []), ids, f"{place}/{key}")
    if "workflowId" not in item:
        for index, entry in enumerate(item.get("parameters", [])):
            if "reference" not in entry and "in" not in entry:
                words = f"parameter '{entry['name']}' does not say where it goes ('in')"
                yield f"{place}/parameters/{index}", words, ""
    yield from _criteria(item.get("successCriteria", []), f"{place}/successCriteria")
    body = item.get("requestBody", {})
    yield from _values(body.get("payload"), f"{place}/requestBody/payload")
    for index, entry in enumerate(body.get("replacements", [])):
        yield from _values(entry["value"], f"{place}/requestBody/replacements/{index}/value")
    for name, text in item.get("outputs", {}).items():
        yield from _expression(text, f"{place}/outputs{step(name)}")


def _entries(
    arazzo: Arazzo, entries: list[dict[str, Any]], ids: list[str], place: str
) -> Iterator[Finding]:
    """Parameters and actions, or references to them."""
    for index, entry in enumerate(entries):
        here = f"{place}/{index}"
        try:
            found = arazzo.resolved(entry)
        except (KeyError, TypeError):
            yield here, f"there is no component '{entry['reference']}'", ""
            continue
        if "value" in found:
            yield from _values(found["value"], f"{here}/value")
        if "type" in found:
            yield from _action(arazzo, found, ids, here)


def _action(
    arazzo: Arazzo, action: dict[str, Any], ids: list[str], place: str
) -> Iterator[Finding]:
    targets = [key for key in ("workflowId", "stepId") if key in action]
    if len(targets) > 1 or (action["type"] == "goto" and not targets):
        words = (
            f"action '{action['name']}' of type {action['type']} needs one of workflowId, stepId"
        )
        yield place, words, ""
    if action["type"] == "end" and targets:
        yield place, f"action '{action['name']}' ends, and goes nowhere", ""
    if "stepId" in action and action["stepId"] not in ids:
        hint = did_you_mean(action["stepId"], ids)
        yield f"{place}/stepId", f"there is no step '{action['stepId']}'", hint
    target = action.get("workflowId", "")
    if target and not target.startswith("$") and target not in arazzo.workflows:
        hint = did_you_mean(target, arazzo.workflows)
        yield f"{place}/workflowId", f"there is no workflow '{target}'", hint
    yield from _criteria(action.get("criteria", []), f"{place}/criteria")


def _criteria(entries: list[dict[str, Any]], place: str) -> Iterator[Finding]:
    for index, entry in enumerate(entries):
        here = f"{place}/{index}"
        if "context" in entry:
            yield from _expression(entry["context"], f"{here}/context")
        kind = entry.get("type", "simple")
        kind = kind["type"] if isinstance(kind, dict) else kind
        problem = _condition_problem(kind, entry["condition"])
        if problem:
            yield f"{here}/condition", problem, ""


def _condition_problem(kind: str, text: str) -> str:
    import re

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
                return f"no JSONPath: {text}: {error}"
        else:
            from lxml import etree

            etree.XPath(text)
    except BadExpression as error:
        return str(error)
    except re.error as error:
        return f"no regular expression: {text}: {error}"
    except Exception as error:  # lxml's XPathSyntaxError, without importing it for the others
        return f"no XPath: {text}: {error}"
    return ""


def _values(value: Any, place: str) -> Iterator[Finding]:
    for text in expressions.expressions_in(value):
        yield from _expression(text, place)


def _expression(text: str, place: str) -> Iterator[Finding]:
    try:
        expressions.read(text)
    except BadExpression as error:
        yield place, str(error), ""


def _circles(arazzo: Arazzo) -> Iterator[Finding]:
    """Workflows that depend on themselves, by whatever way round."""
    for index, name in enumerate(arazzo.workflows):
        way, reached = [name], set()
        while way:
            for needed in arazzo.depends_on(way.pop()):
                if needed == name:
                    place = f"/workflows/{index}/dependsOn"
                    yield place, f"workflow '{name}' depends on itself", ""
                    way.clear()
                    break
                if needed not in reached:
                    reached.add(needed)
                    way.append(needed)
