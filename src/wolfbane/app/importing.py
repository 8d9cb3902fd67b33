"""Imports reports of other tools into the history of a workspace."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from wolfbane.errors import InputError
from wolfbane.model import at
from wolfbane.results.history.entries import RunEntry, TestEnd
from wolfbane.results.history.opening import open_history
from wolfbane.results.history.report_import import read_report
from wolfbane.results.history.store import Store
from wolfbane.workspace.settings import Workspace


class ImportedReport(msgspec.Struct, frozen=True):
    """One imported report: the resulting run, or the reason why the report could not be read.

    ``is_new`` is false if the report was already imported. ``quarantined`` counts the tests that
    the report marks as quarantined.
    """

    path: Path
    run: RunEntry | None
    tests: int = 0
    quarantined: int = 0
    is_new: bool = False
    error: str = ""


def import_reports(
    workspace: Workspace, paths: Sequence[Path], suite: str, environment: str
) -> tuple[list[str], Iterator[ImportedReport]]:
    """Problems of the history, and the reports, one by one, as they are imported.

    Tests are assigned to ``suite`` and to ``environment`` if these are not empty.
    """
    store, problems = open_history(workspace)
    return problems, (_import(store, path, suite, environment=environment) for path in paths)


def _import(store: Store, path: Path, suite: str, environment: str) -> ImportedReport:
    try:
        run, ended = read_report(path, suite)
    except InputError as error:
        return ImportedReport(path, None, error=str(error))
    if environment:
        run, ended = replace(run, target=environment), _in_environment(ended, environment)
    quarantined = sum(each.quarantined for each in ended)
    return ImportedReport(
        path=path, run=run, tests=len(ended), quarantined=quarantined, is_new=store.add(run, ended)
    )


def _in_environment(ended: Sequence[TestEnd], environment: str) -> list[TestEnd]:
    return [replace(e, address=at(e.place, environment), environment=environment) for e in ended]
