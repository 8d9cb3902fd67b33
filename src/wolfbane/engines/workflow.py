"""The engine of kind ``workflow``: Arazzo documents, run by Wolfbane itself."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

from wolfbane.engines.contract import WorkerCommand
from wolfbane.formats.cases import cases
from wolfbane.formats.documents import DocumentError
from wolfbane.formats.library import Library, Unknown
from wolfbane.model import Tag, Test, TestFile
from wolfbane.units import seconds, size
from wolfbane.workspace.settings import Suite


class WorkflowEngine:
    """One test for each workflow, or for each row of its data; each step is a part."""

    kind = "workflow"
    scan_is_exact = True
    loads_afresh = False
    tests_hold_tests = False
    has_closing_hooks = False
    reads_values = True
    keeps_limits = True

    def patterns(self, root: Path, suite: Suite) -> Sequence[str]:
        return ("*.arazzo.yaml", "*.arazzo.yml", "*.arazzo.json")

    def scan(self, root: Path, suite: Suite, path: str, source: bytes) -> TestFile | None:
        try:
            library = Library(root, path, check=True, copies=suite.http.copies)
            library.read_sources()
            found = cases(library)
        except (DocumentError, Unknown, OSError, UnicodeDecodeError) as error:
            return TestFile(path, suite.name, self.kind, complete=False, error=str(error))
        tests = [
            Test(
                suite.name, self.kind, path, case.name, case.line, case.end,
                tuple(Tag.parse(tag, "document") for tag in case.tags), needs=case.needs,
            )
            for case in found
        ]  # fmt: skip
        return TestFile(
            path, suite.name, self.kind, tuple(tests), divisible=False,
            depends=tuple(library.files),
        )  # fmt: skip

    def inputs(self, root: Path, suite: Suite) -> Sequence[str]:
        return ()

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        http = asdict(suite.http)
        del http["documents_token"]
        for key, read in (("connect", seconds), ("read", seconds), ("body_limit", size)):
            http[key] = read(http[key])
        for key in ("certificate", "key"):
            http[key] = str(root / http[key]) if http[key] else ""
        if isinstance(http["verify"], str):
            http["verify"] = str(root / http["verify"])
        command = [sys.executable, "-m", "wolfbane.workers.api"]
        return WorkerCommand(command, root / suite.folder, {"root": str(root), "http": http})

    def runtime(self, root: Path, suite: Suite) -> str:
        import httpx

        return f"httpx {httpx.__version__}"
