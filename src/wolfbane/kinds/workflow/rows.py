"""The data rows of a workflow: a list in its document, or a file."""

from __future__ import annotations

import csv
import io
from pathlib import Path
from typing import Any

from wolfbane.kinds.workflow.document_set import DocumentSet
from wolfbane.kinds.workflow.documents import Document, DocumentError
from wolfbane.kinds.workflow.extensions import ROWS


def rows_of(library: DocumentSet, workflow: str) -> list[dict[str, Any]] | None:
    """The rows of a workflow; None if it has none. Raises DocumentError for invalid rows."""
    document = library.document
    given = document.workflows[workflow].get(ROWS)
    if given is None:
        return None
    line = document.document.line(f"/workflows/{document.positions[workflow]}/{ROWS}")
    if isinstance(given, str):
        path = (library.root / library.path).parent / given
        library.files[_inside(library.root, path)] = None
        try:
            given = read_rows(path)
        except (OSError, UnicodeDecodeError) as error:
            raise DocumentError(f"cannot read the rows: {error}", line) from None
    if not (isinstance(given, list) and all(isinstance(row, dict) for row in given)):
        raise DocumentError(
            f"'{ROWS}' must be a list of objects, or a file that contains such a list", line
        )
    if not given:
        raise DocumentError(f"'{ROWS}' contains no rows", line)
    return given


def row_names(library: DocumentSet, workflow: str) -> set[str]:
    """The columns of a workflow's rows. Rows that cannot be read have none."""
    try:
        rows = rows_of(library, workflow)
    except DocumentError:
        return set()
    return {name for row in rows or () for name in row}


def _inside(root: Path, path: Path) -> str:
    resolved = path.resolve()
    return str(resolved.relative_to(root.resolve()) if root.resolve() in resolved.parents else path)


def read_rows(path: Path) -> Any:
    """The rows of a CSV, JSON or YAML file; columns of CSV are texts."""
    text = path.read_text(encoding="utf-8-sig")
    if path.suffix.lower() == ".csv":
        return [dict(row) for row in csv.DictReader(io.StringIO(text))]
    return Document(text).data
