"""A workflow's inputs: from its row, from parameters of the same name, from its schema."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from wolfbane.formats.cases import Case
from wolfbane.formats.library import Library
from wolfbane.workers.api.course import defaults, properties


class BadInputs(ValueError):
    """Inputs that nothing fills, or that do not fit."""


def inputs_for(library: Library, case: Case, values: Mapping[str, Any]) -> dict[str, Any]:
    """The inputs of a test. Raises BadInputs with everything that is wrong."""
    schema = library.document.workflows[case.workflow].get("inputs", {})
    declared = properties(library, schema)
    found = defaults(library, schema)
    for name, entry in declared.items():
        if name in values:
            found[name] = _typed(values[name], entry)
        if name in case.row:
            found[name] = _typed(case.row[name], entry)
    found |= {name: value for name, value in case.row.items() if name not in declared}
    required = schema.get("required", []) if isinstance(schema, Mapping) else []
    missing = [name for name in required if name not in found]
    used = [name for name in declared if name not in found and name not in required]
    if missing:
        words = ", ".join(f"'{name}'" for name in missing)
        plural = "inputs" if len(missing) > 1 else "input"
        raise BadInputs(f"nothing fills the {plural} {words}: give a parameter of that name")
    _check(library, schema, {k: v for k, v in found.items() if k in declared and k not in used})
    return found


def _check(library: Library, schema: Any, found: dict[str, Any]) -> None:
    if not schema:
        return
    from jsonschema import Draft202012Validator

    inside = {"components": library.document.data.get("components", {}), "allOf": [schema]}
    problems = [
        f"input '{'/'.join(map(str, error.absolute_path)) or 'as a whole'}': {error.message}"
        for error in Draft202012Validator(inside).iter_errors(found)
    ]
    if problems:
        raise BadInputs("; ".join(problems))


def _typed(value: Any, schema: Any) -> Any:
    """A text of a table or a parameter as the type that the input has."""
    kind = schema.get("type") if isinstance(schema, Mapping) else None
    if not isinstance(value, str) or kind in (None, "string"):
        return value
    try:
        return json.loads(value)
    except ValueError:
        return value
