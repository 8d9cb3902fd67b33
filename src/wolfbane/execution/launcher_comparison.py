"""Decides which launchers are compared with the tests that were found, and remembers it.

Tests behind a launcher are found in the sources, so the launcher may have more. The first run of
all tests after a change of the sources also starts it without names.
"""

from __future__ import annotations

import contextlib
import hashlib
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path

import msgspec

from wolfbane.basis.files import read_regular, results_folder, write_whole
from wolfbane.execution.launcher_names import LauncherNames
from wolfbane.inventory import Inventory
from wolfbane.inventory.files import suite_files
from wolfbane.kinds.contract import OMIT_ALWAYS, OMIT_NEVER
from wolfbane.kinds.protocols import launcher_of, untraced_sources
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.model import Result
from wolfbane.planning.plan import Plan
from wolfbane.selection import Expression, Matcher
from wolfbane.workspace.settings import Workspace

NAME = "launchers.json"
"""The remembered facts by suite, in the folder of caches."""


class Launcher(msgspec.Struct):
    """The remembered facts about the launcher of a suite.

    ``compared`` is the state of the sources in the last comparison; ``name_files`` is the state of
    the launcher, if its reports named the files of all tests.
    """

    compared: str = ""
    name_files: str = ""


class Comparisons:
    """The suites of a plan whose launchers have to be compared with the tests that were found."""

    def __init__(self, inventory: Inventory, plan: Plan, leave_out: Expression | None) -> None:
        self._place = inventory.workspace.caches / NAME
        self._known = _read(self._place)
        self._states: dict[str, str] = {}
        self._launchers: dict[str, str] = {}
        self._result_paths: dict[str, str] = {}
        planned = defaultdict[str, set[str]](set)
        for test in plan.tests:
            planned[test.suite].add(test.worker_address)
        for name in planned:
            suite = inventory.workspace.suite(name)
            if launcher := launcher_of(suite):
                self._launchers[name] = _state(inventory.workspace, suite, None)
                self._result_paths[name] = launcher.result_path(suite)
                if _is_whole(inventory, name, planned[name], leave_out=leave_out):
                    when = launcher.omits_names(inventory.workspace.root, suite)
                    self._compare(inventory, suite, when)
        name_files = [
            name
            for name, state in self._launchers.items()
            if (known := self._known.get(name)) and known.name_files == state
        ]
        self.names = LauncherNames(
            inventory.files, self._states, inventory.without_tests, name_files=name_files
        )

    def _compare(self, inventory: Inventory, suite: Suite, when: str) -> None:
        if when in ("", OMIT_NEVER):
            return
        paths = [path for path, file in inventory.files.items() if file.suite == suite.name]
        paths += inventory.without_tests.get(suite.name, ())
        state = _state(inventory.workspace, suite, paths)
        known = self._known.get(suite.name)
        if when == OMIT_ALWAYS or known is None or known.compared != state:
            self._states[suite.name] = state

    def end(self, unplanned: Sequence[Result], *, complete: bool) -> Sequence[str]:
        """The run has ended. Returns warnings; remembers the comparisons of a ``complete`` run.

        ``unplanned`` are the results for tests that were not found. A test without a known file
        cannot be remembered, so its launcher is compared in each run.
        """
        added = {result.path for result in unplanned}
        for name, state in self._launchers.items():
            known = self._known.setdefault(name, Launcher())
            known.name_files = state if name in self.names.name_files else ""
            nowhere = self._result_paths[name] in added
            if complete and name in self._states and not nowhere and name not in self.names.unseen:
                known.compared = self._states[name]
        if self._launchers:
            with contextlib.suppress(OSError):  # then they are compared again
                results_folder(self._place.parent)
                write_whole(self._place, msgspec.json.encode(self._known).decode())
        return list(self.names.warnings())


def _is_whole(
    inventory: Inventory, suite: str, planned: set[str], leave_out: Expression | None
) -> bool:
    """Whether a run has all known tests of a suite, except those that the settings leave out."""
    if any(file.error for file in inventory.files.values() if file.suite == suite):
        return False
    is_left_out = Matcher(leave_out, {}) if leave_out else lambda test: False
    return all(
        test.worker_address in planned or is_left_out(test)
        for test in inventory.tests
        if test.suite == suite
    )


def _state(workspace: Workspace, suite: Suite, files: Sequence[str] | None) -> str:
    """A hash of a suite's launcher: paths, times and sizes. With its test ``files``, also of the
    known sources.
    """
    root, kind = workspace.root, find_kind(suite.kind)
    globs = list(kind.inputs(root, suite))
    globs += [] if files is None else [*suite.inputs, *untraced_sources(root, suite)]
    digest = hashlib.blake2b(repr(suite).encode(), digest_size=16)
    for path in sorted({*(files or ()), *suite_files(root, globs, ("*",), exclude=())}):
        with contextlib.suppress(OSError):  # it was removed meanwhile
            status = (root / path).stat()
            digest.update(f"{path}\0{status.st_mtime_ns}\0{status.st_size}\0".encode())
    return digest.hexdigest()


def _read(path: Path) -> dict[str, Launcher]:
    with contextlib.suppress(OSError, msgspec.MsgspecError):
        return msgspec.json.decode(read_regular(path), type=dict[str, Launcher])
    return {}
