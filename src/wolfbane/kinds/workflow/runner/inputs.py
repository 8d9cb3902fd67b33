"""The inputs of a workflow: from its caller or data row, from parameters of the same name, or from
defaults.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from wolfbane.kinds.workflow.document_set import DocumentSet
from wolfbane.kinds.workflow.names import declared_inputs


class BadInputs(ValueError):
    """Inputs without a value, or with an invalid value."""


def inputs_for(
    library: DocumentSet, workflow: str, given: Mapping[str, Any], values: Mapping[str, Any]
) -> dict[str, Any]:
    """The inputs of a workflow: ``given`` first, then ``values`` of the workspace, then defaults.

    Raises BadInputs with all errors.
    """
    schema = library.document.workflows[workflow].get("inputs", {})
    declared = declared_inputs(library, schema) or {}
    inputs = filled(declared, values)
    for name, value in given.items():
        inputs[name] = _typed(value, declared.get(name))
    missing = [name for name in required(library, schema) if name not in inputs]
    if missing:
        message = ", ".join(f"'{name}'" for name in missing)
        plural = "input"
        if len(missing) > 1:
            plural = "inputs"
        raise BadInputs(
            f"workflow '{workflow}' has no value for the "
            f"{plural} {message}; define a parameter of that name"
        )
    _check(library, schema, {name: inputs[name] for name in declared if name in inputs})
    return inputs


def filled(declared: Mapping[str, Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """The declared inputs with a value from the workspace or a default."""
    inputs = {}
    for name, entry in declared.items():
        if name in values:
            inputs[name] = _typed(values[name], entry)
        elif isinstance(entry, Mapping) and "default" in entry:
            inputs[name] = entry["default"]
    return inputs


def required(library: DocumentSet, schema: Any) -> list[str]:
    """The inputs that a schema requires, also through a reference to a component."""
    if not isinstance(schema, Mapping):
        return []
    names = list(schema.get("required", []))
    if "$ref" in schema:
        name = str(schema["$ref"]).rpartition("/")[2]
        components = library.document.data.get("components", {})
        names += components.get("inputs", {}).get(name, {}).get("required", [])
    return names


def _check(library: DocumentSet, schema: Any, inputs: dict[str, Any]) -> None:
    if not schema:
        return
    from jsonschema import Draft202012Validator

    inside = {"components": library.document.data.get("components", {}), "allOf": [schema]}
    problems = [
        f"input '{'/'.join(map(str, error.absolute_path)) or 'as a whole'}': {error.message}"
        for error in Draft202012Validator(inside).iter_errors(inputs)
    ]
    if problems:
        raise BadInputs("; ".join(problems))


def _typed(value: Any, schema: Any) -> Any:
    """A text of a table or a parameter, converted to the type of the input."""
    kind = None
    if isinstance(schema, Mapping):
        kind = schema.get("type")
    if not isinstance(value, str) or kind in (None, "string"):
        return value
    try:
        return json.loads(value)
    except (ValueError, RecursionError):
        return value
