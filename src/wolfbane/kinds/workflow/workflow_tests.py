"""The tests of an Arazzo document: one per workflow, or one per row of its data."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from wolfbane.kinds.workflow.arazzo import Arazzo
from wolfbane.kinds.workflow.document_set import DocumentSet, Unknown
from wolfbane.kinds.workflow.documents import DocumentError
from wolfbane.kinds.workflow.extensions import TAGS
from wolfbane.kinds.workflow.rows import rows_of


@dataclass(frozen=True)
class WorkflowTest:
    """One test: a workflow with the inputs of its row. ``needs`` are names of other tests."""

    name: str
    workflow: str
    line: int
    end: int
    row: Mapping[str, Any] = field(default_factory=dict)
    tags: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()


def cases(library: DocumentSet, *, lines: bool = True) -> list[WorkflowTest]:
    """Every test of a document, in order. Raises DocumentError or OSError for invalid rows.

    Without ``lines``, their places and tags are not computed, because a run already has them.
    """
    document = library.document
    plain: dict[str, list[WorkflowTest]] = {}
    tags: tuple[str, ...]
    written = document.document
    last = len(written.text.splitlines())
    for index, (name, workflow) in enumerate(document.workflows.items()):
        line, end, tags = 0, 0, ()
        if lines:
            line = written.line(f"/workflows/{index}")
            following = written.line(f"/workflows/{index + 1}")
            if following > line:
                end = following - 1
            else:
                end = last
            tags = tuple(dict.fromkeys(_tags(library, workflow)))
        rows = rows_of(library, name)
        if rows is None:
            plain[name] = [WorkflowTest(name=name, workflow=name, line=line, end=end, tags=tags)]
        else:
            names = _names(rows)
            plain[name] = [
                WorkflowTest(
                    name=f"{name} / {own}", workflow=name, line=line, end=end, row=row, tags=tags
                )
                for own, row in zip(names, rows)
            ]
    return [
        WorkflowTest(
            name=case.name,
            workflow=case.workflow,
            line=case.line,
            end=case.end,
            row=case.row,
            tags=case.tags,
            needs=needs,
        )
        for name, members in plain.items()
        for needs in [_needs(document, name, plain)]
        for case in members
    ]


def _needs(
    document: Arazzo, name: str, members: Mapping[str, list[WorkflowTest]]
) -> tuple[str, ...]:
    """The tests that the tests of a workflow depend on. A cycle is an error of its workflows."""
    if name in document.circular:
        return ()
    return tuple(case.name for needed in document.depends_on(name) for case in members[needed])


def _tags(library: DocumentSet, workflow: Mapping[str, Any]) -> Iterator[str]:
    """The tags of document, workflow and steps, and of the operations that the steps call."""
    yield from _listed(library.document.data)
    yield from _listed(workflow)
    for step in workflow["steps"]:
        yield from _listed(step)
        if "workflowId" not in step:
            try:
                operation = library.operation(step)
            except (Unknown, DocumentError, OSError):
                continue  # said when the document is checked
            yield from map(str, operation.data.get("tags", []))


def _listed(holder: Mapping[str, Any]) -> list[str]:
    tags = holder.get(TAGS, [])
    if isinstance(tags, str):
        return [tags]
    return [str(tag) for tag in tags]


def _names(rows: list[dict[str, Any]]) -> list[str]:
    """Rows by their ``name``, if they have one, or otherwise by number; all names are unique."""
    seen: Counter[str] = Counter()
    names = []
    for number, row in enumerate(rows, 1):
        name = str(row.get("name") or f"row {number}").replace(" / ", "/").strip()
        seen[name] += 1
        names.append(name if seen[name] == 1 else f"{name} ({seen[name]})")
    return names
