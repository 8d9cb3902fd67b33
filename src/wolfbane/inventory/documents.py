"""The saved copies of documents with a URL, for all suites of a workspace."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from wolfbane.environments import Environment
from wolfbane.errors import InputError, Problem
from wolfbane.inventory.files import suite_files
from wolfbane.kinds.documents import Copy, Fetching
from wolfbane.kinds.freshness import Freshness
from wolfbane.kinds.protocols import FetchesDocuments, path_on_disk
from wolfbane.kinds.registry import find_kind
from wolfbane.workspace.settings import Workspace


def fetch_documents(
    workspace: Workspace, environment: Environment, freshness: Freshness
) -> tuple[list[Copy], list[str]]:
    """Update the copies of all suites; returns them and the warnings.

    Raises InputError with every document that cannot be downloaded.
    """
    copies: dict[str, Copy] = {}
    warnings: list[str] = []
    problems: list[Problem] = []
    how = Fetching(freshness, environment.fill)
    for suite in workspace.suites:
        kind = find_kind(suite.kind)
        if not isinstance(kind, FetchesDocuments):
            continue
        own = [path for path in suite.paths if path_on_disk(suite, path) == path]
        patterns = kind.patterns(workspace.root, suite)
        files = suite_files(workspace.root, own, patterns, exclude=suite.exclude)
        fetched = kind.fetch(workspace.root, suite, files, how=how)
        copies.update(fetched.copies)
        warnings += fetched.warnings
        for problem in fetched.problems:
            problems.append(Problem(f"suite '{suite.name}': {environment.mask(problem)}"))
    if problems:
        raise InputError(*problems)
    return list(copies.values()), list(dict.fromkeys(warnings))


def keep_with_run(copies: Sequence[Copy], root: Path, folder: Path) -> None:
    """Copy the documents that a run uses to its folder."""
    for copy in copies:
        target = folder / "documents" / copy.file.rpartition("/")[2]
        if target.exists():
            target = target.with_name(f"{copy.digest[:8]}-{target.name}")
        target.parent.mkdir(exist_ok=True)
        target.write_bytes((root / copy.file).read_bytes())
