"""Kind ``workflow``: Arazzo documents, run by Wolfbane itself.

Readers of documents are imported when a document is read, because every kind is asked about the
files of a folder without settings.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import to_builtins
from msgspec.structs import replace

from wolfbane.basis.toml_lines import Location
from wolfbane.basis.units import seconds, size
from wolfbane.errors import did_you_mean
from wolfbane.kinds.contract import Kind, WorkerCommand, own_process
from wolfbane.kinds.documents import Fetched, Fetching
from wolfbane.kinds.protocols import (
    FetchesDocuments,
    FillsSettings,
    HasPathSettings,
    Loadable,
    Relocatable,
)
from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.workflow.document_cache import is_url, place_of
from wolfbane.kinds.workflow.document_set import DocumentSet, Unknown
from wolfbane.kinds.workflow.documents import DocumentError
from wolfbane.kinds.workflow.extensions import unknown_checks
from wolfbane.kinds.workflow.settings import Http, WorkflowSuite
from wolfbane.kinds.workflow.workflow_tests import cases
from wolfbane.model import Tag, Test, TestFile


class WorkflowKind(
    Kind[WorkflowSuite],
    FetchesDocuments[WorkflowSuite],
    FillsSettings[WorkflowSuite],
    HasPathSettings[WorkflowSuite],
    Loadable,
    Relocatable[WorkflowSuite],
):
    """Each workflow, or each row of its data, is a test. Each step is a part of the test."""

    name = "workflow"
    suite_type = WorkflowSuite
    scan_is_exact = True
    parts_are = "steps"
    reads_values = True
    keeps_limits = True

    def patterns(self, root: Path, suite: WorkflowSuite) -> Sequence[str]:
        """Arazzo documents."""
        return ("*.arazzo.yaml", "*.arazzo.yml", "*.arazzo.json")

    def scan(self, root: Path, suite: WorkflowSuite, path: str, source: bytes) -> TestFile | None:
        """A test for each workflow, or for each row of its data."""

        return scan_document(root, suite, self.name, path=path)

    def worker(self, root: Path, suite: WorkflowSuite) -> WorkerCommand:
        """A process of Wolfbane's that sends the requests."""
        http = to_builtins(suite.http)
        del http["documents_token"]
        for key, read in (("connect", seconds), ("read", seconds), ("body_limit", size)):
            http[key] = read(http[key])
        for key in ("certificate", "key"):
            http[key] = str(root / http[key]) if http[key] else ""
        if isinstance(http["verify"], str):
            http["verify"] = str(root / http["verify"])
        command = own_process("wolfbane.kinds.workflow.runner")
        return WorkerCommand(command, root / suite.folder, {"root": str(root), "http": http})

    def runtime(self, root: Path, suite: WorkflowSuite) -> str:
        from importlib.metadata import version

        return f"aiohttp {version('aiohttp')}, httpx {version('httpx')}"

    def wrong_settings(
        self, root: Path, suite: WorkflowSuite, parameters: Collection[str]
    ) -> Iterator[tuple[Location, str]]:
        for key, problem in suite.http.wrong_limits(unfilled=True):
            yield ("http", key), problem
        for message in unknown_checks(suite.http.contract):
            yield ("http", "contract"), message

    def path_on_disk(self, suite: WorkflowSuite, path: str) -> str:
        if is_url(path):
            return place_of(path, suite.http.copies)
        return path

    def placeholders(self, suite: WorkflowSuite) -> Mapping[str, object]:
        http = suite.http
        return {"http": [http.base_url, http.proxy, http.security, http.documents_token]}

    def filled(self, suite: WorkflowSuite, fill: Callable[[Any], Any]) -> WorkflowSuite:
        return replace(suite, http=Http(**fill(to_builtins(suite.http))))

    def wrong_when_filled(
        self,
        root: Path,
        suite: WorkflowSuite,
        files: Sequence[str],
        filled: Sequence[WorkflowSuite],
    ) -> Iterator[tuple[Location, str, str]]:
        for each in filled:
            yield from ((("http", key), message, "") for key, message in each.http.wrong_limits())
        if not suite.http.security:
            return

        # Without this check a misspelled scheme would send every request without credentials.
        known = security_schemes(root, suite, files)
        for name in suite.http.security:
            if known is not None and name not in known:
                message = f"no description defines the security scheme '{name}'"
                yield ("http", "security", name), message, did_you_mean(name, known)

    def relocated(self, suite: WorkflowSuite, to: Relocation) -> WorkflowSuite:
        return replace(suite, http=suite.http.relocated(to))

    def fetch(
        self, root: Path, suite: WorkflowSuite, files: Sequence[str], how: Fetching
    ) -> Fetched:
        from wolfbane.kinds.workflow.fetching import fetch_documents

        return fetch_documents(root, suite, files, how)

    def operations(
        self, root: Path, suite: WorkflowSuite, path: str
    ) -> Mapping[str, Sequence[str]]:

        return operations_of(root, suite, path)


KIND = WorkflowKind()


def scan_document(root: Path, suite: WorkflowSuite, kind: str, path: str) -> TestFile:
    """A test for each workflow, or for each row of its data."""
    try:
        library = DocumentSet(root, path, check=True, copies=suite.http.copies)
        library.read_sources()
        items = cases(library)
    except (DocumentError, Unknown, OSError, UnicodeDecodeError) as error:
        return TestFile(path, suite.name, kind, complete=False, error=str(error))
    tests = [
        Test(
            suite=suite.name,
            kind=kind,
            path=path,
            name=case.name,
            line=case.line,
            end=case.end,
            tags=tuple(Tag.parse(tag, "document") for tag in case.tags),
            needs=case.needs,
        )
        for case in items
    ]
    return TestFile(
        path=path,
        suite=suite.name,
        kind=kind,
        tests=tuple(tests),
        divisible=True,
        depends=tuple(library.files),
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
