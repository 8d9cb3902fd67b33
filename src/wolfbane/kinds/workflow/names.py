"""Checks that all names in the expressions of a workflow are defined in its document."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import Any

from wolfbane.errors import did_you_mean
from wolfbane.kinds.workflow import conditions, expressions
from wolfbane.kinds.workflow.document_set import DocumentSet
from wolfbane.kinds.workflow.documents import DocumentError, look_up, step
from wolfbane.kinds.workflow.expressions import BadExpression, Expression
from wolfbane.kinds.workflow.rows import row_names

Finding = tuple[str, str]
"""A JSON Pointer into the document, and the error there."""
_DEEPEST = 10


def name_problems(library: DocumentSet, index: int) -> Iterator[Finding]:
    """Invalid expressions of one workflow, and expressions with undefined names."""
    names = _Names(library, index)
    for pointer, expression, nested in _used(library, index):
        if isinstance(expression, BadExpression):
            yield pointer, str(expression)
        elif problem := names.problem(expression, nested):
            yield pointer, problem


def input_names(library: DocumentSet, workflow: str) -> set[str] | None:
    """The inputs that a workflow can have; None if its schema leaves them open.

    The inputs from its schema and its rows, and those that steps of the same document pass.
    """
    described = library.document.workflows[workflow]
    declared = declared_inputs(library, described.get("inputs", {}))
    if declared is None:
        return None
    names = {*declared, *row_names(library, workflow)}
    for item in library.document.callers.get(workflow, []):
        names.update(entry["name"] for entry in given_entries(library, item))
    return names


def given_entries(library: DocumentSet, item: Mapping[str, Any]) -> Iterator[dict[str, Any]]:
    """The parameters of a step; another check reports unresolved references."""
    for entry in item.get("parameters", []):
        try:
            yield library.document.resolved(entry)
        except (KeyError, TypeError):
            continue


def declared_inputs(library: DocumentSet, schema: Any, depth: int = 0) -> dict[str, Any] | None:
    """The properties of a schema of inputs, through ``$ref`` and ``allOf``.

    None if the schema can define inputs in unsupported ways.
    """
    if not isinstance(schema, Mapping):
        return {}
    open_ended = any(key in schema for key in ("anyOf", "oneOf", "if", "patternProperties"))
    if open_ended or depth > _DEEPEST:
        return None
    properties: dict[str, Any] = {}
    if "$ref" in schema:
        named = [_referred(library, schema["$ref"])]
    else:
        named = []
    for part in (*named, *schema.get("allOf", [])):
        inner = declared_inputs(library, part, depth + 1)
        if inner is None:
            return None
        properties.update(inner)
    return {**properties, **schema.get("properties", {})}


def _referred(library: DocumentSet, reference: object) -> Any:
    """The component that a schema of inputs refers to; empty if it does not exist."""
    name = str(reference).rpartition("/")[2]
    return library.document.data.get("components", {}).get("inputs", {}).get(name, {})


def _used(
    library: DocumentSet, index: int
) -> Iterator[tuple[str, Expression | BadExpression, str]]:
    """All expressions of a workflow: the place, and the workflow that the step calls, if any."""
    pointer = f"/workflows/{index}"
    workflow = library.document.data["workflows"][index]
    for here, expression in _in_texts(workflow.get("outputs", {}), f"{pointer}/outputs"):
        yield here, expression, ""
    for key in ("parameters", "successActions", "failureActions"):
        for here, expression in _in_entries(library, workflow.get(key, []), f"{pointer}/{key}"):
            yield here, expression, ""
    for number, item in enumerate(workflow["steps"]):
        for here, expression in _in_step(library, item, f"{pointer}/steps/{number}"):
            yield here, expression, item.get("workflowId", "")


Found = Iterator[tuple[str, Expression | BadExpression]]


def _in_step(library: DocumentSet, item: Mapping[str, Any], pointer: str) -> Found:
    for key in ("parameters", "onSuccess", "onFailure"):
        yield from _in_entries(library, item.get(key, []), f"{pointer}/{key}")
    yield from _in_criteria(item.get("successCriteria", []), f"{pointer}/successCriteria")
    if "x-until" in item:
        yield from _in_criteria([item["x-until"]], f"{pointer}/x-until", counted=False)
    body = item.get("requestBody", {})
    for key in ("payload", "x-file"):
        yield from _in_value(body.get(key), f"{pointer}/requestBody/{key}")
    for number, entry in enumerate(body.get("replacements", [])):
        yield from _in_value(entry["value"], f"{pointer}/requestBody/replacements/{number}/value")
    yield from _in_texts(item.get("outputs", {}), f"{pointer}/outputs")


def _in_entries(library: DocumentSet, entries: list[dict[str, Any]], pointer: str) -> Found:
    """Parameters and actions, or references to them; another check reports unknown ones."""
    for index, entry in enumerate(entries):
        try:
            item = library.document.resolved(entry)
        except (KeyError, TypeError):
            continue
        yield from _in_value(item.get("value"), f"{pointer}/{index}")
        yield from _in_criteria(item.get("criteria", []), f"{pointer}/{index}/criteria")


def _in_criteria(entries: list[Any], pointer: str, *, counted: bool = True) -> Found:
    """Contexts, and the names in simple conditions.

    An invalid condition is reported by another check.
    """
    for index, entry in enumerate(entries):
        if counted:
            here = f"{pointer}/{index}"
        else:
            here = pointer
        if isinstance(entry, dict):
            criterion = entry
        else:
            criterion = {"condition": entry}
        if "context" in criterion:
            yield f"{here}/context", _read(criterion["context"])
        if criterion.get("type", "simple") == "simple":
            try:
                parsed = conditions.parse(criterion["condition"])
            except BadExpression:
                continue
            for expression in conditions.expressions_of(parsed):
                yield f"{here}/condition", expression


def _in_texts(texts: Mapping[str, str], pointer: str) -> Found:
    for name, text in texts.items():
        yield pointer + step(name), _read(text)


def _in_value(value: Any, pointer: str) -> Found:
    for text in expressions.expressions_in(value):
        yield pointer, _read(text)


def _read(text: str) -> Expression | BadExpression:
    try:
        return expressions.read(text)
    except BadExpression as error:
        return error


class _Names:
    """The known names in one workflow."""

    def __init__(self, library: DocumentSet, index: int) -> None:
        self._library = library
        self._workflow = library.document.data["workflows"][index]
        self._steps = {item["stepId"]: item for item in self._workflow["steps"]}
        self._inputs = input_names(library, self._workflow["workflowId"])

    def problem(self, expression: Expression, nested: str) -> str:
        """The errors in an expression's names. ``nested`` is the workflow of its step."""
        head, names = expression.head, expression.names
        if head == "inputs":
            return _unknown(expression, "input", names, known=self._inputs)
        if head == "outputs":
            return self._output(expression, nested)
        if head == "steps":
            return self._of_step(expression)
        if head == "workflows":
            known = self._library.document.workflows
            if names[0] not in known:
                return _unknown(expression, "workflow", names[:1], known=known)
            return self._of_workflow(expression, self._library, names[0], rest=names[1:])
        if head == "sourceDescriptions":
            return self._of_source(expression)
        if head == "components":
            return self._component(expression)
        return ""

    def _output(self, expression: Expression, nested: str) -> str:
        known: set[str] | None = set(self._workflow.get("outputs", {}))
        if nested and known is not None:
            called = self._outputs_of(nested)
            known = None if called is None else known | called
        return _unknown(expression, "output", expression.names, known=known)

    def _of_step(self, expression: Expression) -> str:
        name, *rest = expression.names
        if name not in self._steps:
            return _unknown(expression, "step", (name,), known=self._steps)
        item = self._steps[name]
        known: set[str] | None = set(item.get("outputs", {}))
        if known is not None and "workflowId" in item:
            called = self._outputs_of(item["workflowId"])
            known = None if called is None else known | called
        if len(rest) == 1:
            return ""
        return _unknown(expression, f"output of step '{name}'", tuple(rest[1:]), known=known)

    def _outputs_of(self, workflow: str) -> set[str] | None:
        """The outputs of a called workflow; None if not found, which another check reports."""
        try:
            library, name = self._library.workflow(workflow)
        except (ValueError, OSError):
            return None
        return set(library.document.workflows[name].get("outputs", {}))

    def _of_workflow(
        self, expression: Expression, library: DocumentSet, name: str, rest: tuple[str, ...]
    ) -> str:
        if len(rest) < 2:
            return ""
        if rest[0] == "inputs":
            known = input_names(library, name)
        else:
            known = set(library.document.workflows[name].get("outputs", {}))
        return _unknown(expression, f"{rest[0][:-1]} of workflow '{name}'", rest[1:], known=known)

    def _of_source(self, expression: Expression) -> str:
        """``$sourceDescriptions.NAME.url`` and similar, or a workflow of another document."""
        name, *rest = expression.names
        sources = self._library.document.sources
        if name not in sources:
            return _unknown(expression, "source description", (name,), known=sources)
        if not rest or rest[0] in sources[name]:
            return ""
        try:
            if sources[name].get("type") != "arazzo":
                return _unknown(
                    expression, f"field of source '{name}'", rest[:1], known=sources[name]
                )
            library = self._library.other(name)
        except (DocumentError, ValueError, OSError):
            return ""  # it is reported where it is used
        known = library.document.workflows
        if rest[0] not in known:
            return _unknown(expression, f"workflow of source '{name}'", rest[:1], known=known)
        if rest[1:2] not in ([], ["outputs"], ["inputs"]):
            return f"{expression}: the name of a workflow must be followed by 'inputs' or 'outputs'"
        return self._of_workflow(expression, library, rest[0], rest=tuple(rest[1:]))

    def _component(self, expression: Expression) -> str:
        """Every name of the path must exist."""
        held: Any = self._library.document.data.get("components", {})
        for name in expression.names:
            try:
                held = look_up(held, step(name))
            except KeyError:
                known = held if isinstance(held, Mapping) else ()
                return _unknown(expression, "component", (name,), known=known)
        return ""


def _unknown(
    expression: Expression, what: str, names: Collection[str], known: Collection[str] | None
) -> str:
    """The error for an unknown name. A name may contain dots, so its first part is sufficient."""
    parts = list(names)
    if known is None or any(".".join(parts[: n + 1]) in known for n in range(len(parts))):
        return ""
    name = ".".join(parts)
    hint = did_you_mean(name, known)
    return f"{expression}: there is no {what} '{name}'" + (f"; {hint}" if hint else "")
