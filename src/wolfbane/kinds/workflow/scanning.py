"""Reads tests, operations and security schemes from the documents of a suite, without sending
requests.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from wolfbane.kinds.workflow.document_set import DocumentSet, Unknown
from wolfbane.kinds.workflow.documents import DocumentError
from wolfbane.kinds.workflow.settings import WorkflowSuite
from wolfbane.kinds.workflow.workflow_tests import cases
from wolfbane.model import Tag, Test, TestFile


def scan_document(root: Path, suite: WorkflowSuite, kind: str, path: str) -> TestFile:
    """A test for each workflow, or for each row of its data."""
    try:
        library = DocumentSet(root, path, check=True, copies=suite.http.copies)
        library.read_sources()
        found = cases(library)
    except (DocumentError, Unknown, OSError, UnicodeDecodeError) as error:
        return TestFile(path, suite.name, kind, complete=False, error=str(error))
    tests = [
        Test(
            suite.name, kind, path, case.name, case.line, case.end,
            tuple(Tag.parse(tag, "document") for tag in case.tags), needs=case.needs,
        )
        for case in found
    ]  # fmt: skip
    return TestFile(
        path, suite.name, kind, tuple(tests), divisible=True, depends=tuple(library.files)
    )


def operations_of(root: Path, suite: WorkflowSuite, path: str) -> Mapping[str, Sequence[str]]:
    """The operations of each API description that a document uses."""
    try:
        library = DocumentSet(root, path, copies=suite.http.copies)
        return {d.name: [o.name for o in d.operations] for d in library.descriptions}
    except (DocumentError, Unknown, OSError):
        return {}  # it was right when it ran; later changes do not matter here


def security_schemes(root: Path, suite: WorkflowSuite, files: Sequence[str]) -> set[str] | None:
    """The schemes of all descriptions of a suite; None if one of them cannot be read."""
    schemes: set[str] = set()
    for path in files:
        try:
            for description in DocumentSet(root, path, copies=suite.http.copies).descriptions:
                schemes.update(description.security_schemes)
        except (DocumentError, Unknown, OSError):
            return None  # that is reported with its file
    return schemes
