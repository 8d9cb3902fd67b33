"""Checks workflows that are called by other workflows, before any request is sent."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from wolfbane.kinds.workflow.checks import document_problems
from wolfbane.kinds.workflow.document_set import DocumentSet
from wolfbane.kinds.workflow.names import declared_inputs, given_entries
from wolfbane.kinds.workflow.runner.inputs import filled, required


def problems_with(library: DocumentSet, workflow: str) -> list[str]:
    """The errors of a workflow and of all workflows that it calls: file, line and text."""
    inside = reached(library, workflow)
    return list(
        dict.fromkeys(p for here, name in inside for p in document_problems(here).get(name, ()))
    )


def lacking_inputs(library: DocumentSet, workflow: str, values: Mapping[str, Any]) -> list[str]:
    """An error for each required input that a called workflow would lack."""
    lacking: dict[str, None] = {}
    for here, name in reached(library, workflow):
        for target, given, pointer in _calls(here, name):
            other, inner = here.workflow(target)
            schema = other.document.workflows[inner].get("inputs", {})
            there = {*filled(declared_inputs(other, schema) or {}, values), *given}
            line = here.document.document.line(pointer)
            for needed in required(other, schema):
                if needed not in there:
                    message = (
                        f"workflow '{target}' needs the input '{needed}', but no value is given"
                    )
                    lacking[f"{here.path}:{line}: {message}"] = None
    return list(lacking)


def reached(library: DocumentSet, workflow: str) -> Iterator[tuple[DocumentSet, str]]:
    """A workflow and all workflows that it calls, each once; invalid ones are not followed."""
    waiting, seen = [(library, workflow)], set[tuple[str, str]]()
    while waiting:
        here, name = waiting.pop()
        if (here.path, name) not in seen:
            seen.add((here.path, name))
            yield here, name
            if name not in document_problems(here):
                waiting += [here.workflow(target) for target, _, _ in _calls(here, name)]


def _calls(library: DocumentSet, workflow: str) -> Iterator[tuple[str, set[str], str]]:
    """The workflows that a valid workflow calls: the name, the given inputs, and the place."""
    described = library.document.workflows[workflow]
    pointer = f"/workflows/{library.document.positions[workflow]}"
    for number, needed in enumerate(described.get("dependsOn", [])):
        if needed.startswith("$"):
            yield needed, set(), f"{pointer}/dependsOn/{number}"
    holders = [(described, pointer, ("successActions", "failureActions"))]
    for number, item in enumerate(described["steps"]):
        here = f"{pointer}/steps/{number}"
        holders.append((item, here, ("onSuccess", "onFailure")))
        if "workflowId" in item:
            names = {entry["name"] for entry in given_entries(library, item)}
            yield item["workflowId"], names, here
    for holder, here, keys in holders:
        for key in keys:
            for action in map(library.document.resolved, holder.get(key, [])):
                if "workflowId" in action:
                    yield action["workflowId"], set(), f"{here}/{key}"
