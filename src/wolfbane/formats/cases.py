"""The tests of an Arazzo document: a workflow each, or one for every row of its data."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from wolfbane.formats.documents import Document, DocumentError
from wolfbane.formats.library import Library, Unknown

ROWS, TAGS = "x-rows", "x-tags"


@dataclass(frozen=True)
class Case:
    """One test: a workflow, with the inputs that its row gives. ``needs`` are names of others."""

    name: str
    workflow: str
    line: int
    end: int
    row: Mapping[str, Any] = field(default_factory=dict)
    tags: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()


def cases(library: Library, *, lines: bool = True) -> list[Case]:
    """Every test of a document, in order. Raises DocumentError or OSError for bad rows.

    Without ``lines`` their places and tags are not looked up: those who run them know them.
    """
    document = library.document
    plain: dict[str, list[Case]] = {}
    tags: tuple[str, ...]
    written = document.document
    last = len(written.text.splitlines())
    for index, (name, workflow) in enumerate(document.workflows.items()):
        line, end, tags = 0, 0, ()
        if lines:
            line = written.line(f"/workflows/{index}")
            following = written.line(f"/workflows/{index + 1}")
            end = following - 1 if following > line else last
            tags = tuple(dict.fromkeys(_tags(library, workflow)))
        rows = _rows(library, index, workflow)
        if rows is None:
            plain[name] = [Case(name, name, line, end, tags=tags)]
        else:
            names = _names(rows)
            plain[name] = [
                Case(f"{name} / {own}", name, line, end, row, tags) for own, row in zip(names, rows)
            ]
    return [
        Case(case.name, case.workflow, case.line, case.end, case.row, case.tags, needs)
        for name, members in plain.items()
        for needs in [tuple(c.name for n in document.depends_on(name) for c in plain[n])]
        for case in members
    ]


def _tags(library: Library, workflow: Mapping[str, Any]) -> Iterator[str]:
    """Those of document, workflow and steps, and of the operations that the steps call."""
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
    return [tags] if isinstance(tags, str) else [str(tag) for tag in tags]


def _rows(library: Library, index: int, workflow: Mapping[str, Any]) -> list[dict[str, Any]] | None:
    given = workflow.get(ROWS)
    if given is None:
        return None
    line = library.document.document.line(f"/workflows/{index}/{ROWS}")
    if isinstance(given, str):
        path = (library.root / library.path).parent / given
        library.files[_inside(library.root, path)] = None
        try:
            given = read_rows(path)
        except (OSError, UnicodeDecodeError) as error:
            raise DocumentError(f"the rows cannot be read: {error}", line) from None
    if not (isinstance(given, list) and all(isinstance(row, dict) for row in given)):
        raise DocumentError(f"'{ROWS}' is a list of objects, or a file with one", line)
    if not given:
        raise DocumentError(f"'{ROWS}' holds no row", line)
    return given


def _inside(root: Path, path: Path) -> str:
    resolved = path.resolve()
    return str(resolved.relative_to(root.resolve()) if root.resolve() in resolved.parents else path)


def read_rows(path: Path) -> Any:
    """The rows of a CSV, JSON or YAML file; columns of CSV are texts."""
    text = path.read_text(encoding="utf-8-sig")
    if path.suffix.lower() == ".csv":
        return [dict(row) for row in csv.DictReader(io.StringIO(text))]
    return Document(text).data


def _names(rows: list[dict[str, Any]]) -> list[str]:
    """Rows by their ``name``, where they have one, else by number; never two the same."""
    seen: Counter[str] = Counter()
    names = []
    for number, row in enumerate(rows, 1):
        name = str(row.get("name") or f"row {number}").replace(" / ", "/").strip()
        seen[name] += 1
        names.append(name if seen[name] == 1 else f"{name} ({seen[name]})")
    return names
