"""Read and check Arazzo 1.0 documents: workflows over operations that OpenAPI describes."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache, cached_property
from pathlib import Path
from typing import Any

from wolfbane.errors import Problem, did_you_mean
from wolfbane.kinds.workflow.documents import Document, DocumentError, look_up, step

_SCHEMA = Path(__file__).with_name("arazzo-1.0.json")


class BadDocument(DocumentError):
    """A document that violates the standard, with all problems."""

    def __init__(self, problems: list[Problem]) -> None:
        self.problems = problems
        super().__init__("\n".join(map(str, problems)), problems[0].line)


@dataclass(frozen=True)
class Arazzo:
    """A checked document. ``data`` contains all of it, as written."""

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
        """The positions of workflows in the list, by identifier."""
        return {name: position for position, name in enumerate(self.workflows)}

    @cached_property
    def callers(self) -> dict[str, list[dict[str, Any]]]:
        """The steps that run each workflow, by its identifier."""
        callers: dict[str, list[dict[str, Any]]] = {}
        for workflow in self.workflows.values():
            for item in workflow["steps"]:
                if "workflowId" in item:
                    callers.setdefault(item["workflowId"], []).append(item)
        return callers

    def resolved(self, entry: dict[str, Any]) -> dict[str, Any]:
        """A Reusable Object's component, with the value that overrides it. Raises KeyError."""
        if "reference" not in entry:
            return entry
        names = entry["reference"].removeprefix("$").split(".")
        component: dict[str, Any] = dict(look_up(self.data, "".join(map(step, names))))
        if "value" in entry:
            return {**component, "value": entry["value"]}
        return component

    def depends_on(self, workflow: str) -> list[str]:
        """The workflows of this document that must run before."""
        known = self.workflows
        return [name for name in known[workflow].get("dependsOn", []) if name in known]

    @cached_property
    def circular(self) -> frozenset[str]:
        """Workflows that depend on themselves, directly or indirectly."""
        return frozenset(name for name in self.workflows if name in self._reached(name))

    def _reached(self, name: str) -> set[str]:
        waiting, reached = [name], set[str]()
        while waiting:
            for needed in self.depends_on(waiting.pop()):
                if needed not in reached:
                    reached.add(needed)
                    waiting.append(needed)
        return reached


def read(text: str, name: str, *, check: bool = True) -> Arazzo:
    """Read a document and check its structure.

    Raises DocumentError, or BadDocument with all problems.

    Without ``check``, the structure is known to be valid. ``workflow_checks`` checks the meaning of
    each workflow separately: an error in one workflow does not affect the others.
    """
    document = Document(text)
    if not check:
        return Arazzo(name, document)
    problems = [
        Problem(message=message, file=name, line=document.line(pointer), hint=hint)
        for pointer, message, hint in _shape_problems(document.data)
    ]
    if not problems:
        problems = [
            Problem(f"two workflows are named '{twin}'", name, document.line(pointer))
            for pointer, twin in _twins(document.data["workflows"])
        ]
    if problems:
        raise BadDocument(sorted(dict.fromkeys(problems), key=lambda problem: problem.line))
    return Arazzo(name, document)


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
    subject = pointer.rpartition("/")[2] or "the document"
    if error.validator == "unevaluatedProperties":
        known = list(error.schema.get("properties", {}))
        if isinstance(error.instance, dict):
            for key in error.instance:
                if key not in known and not key.startswith("x-"):
                    yield pointer + step(key), f"unknown field '{key}'", did_you_mean(key, known)
    elif error.validator == "required":
        missing = [key for key in error.validator_value if key not in error.instance]
        for key in missing:
            yield pointer, f"'{key}' is missing in {subject}", ""
    elif error.validator == "enum":
        hint = did_you_mean(str(error.instance), map(str, error.validator_value))
        yield pointer, f"'{subject}' is '{error.instance}'", hint
    elif error.validator == "pattern":
        yield pointer, f"'{subject}' is '{error.instance}', which is none", ""
    else:
        yield pointer, f"'{subject}': {error.message}"[:300], ""


def _twins(workflows: list[dict[str, Any]]) -> Iterator[tuple[str, str]]:
    seen: set[str] = set()
    for index, workflow in enumerate(workflows):
        name = workflow["workflowId"]
        if name in seen:
            yield f"/workflows/{index}/workflowId", name
        seen.add(name)
