"""The engine of kind ``bridge``: suites with a launcher of their own, described in a file."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Iterable, Sequence
from dataclasses import asdict
from pathlib import Path

from wolfbane.engines.contract import Missing, WorkerCommand
from wolfbane.formats.outline import CannotFind, Item, Patterns, distinct, outline
from wolfbane.model import NESTED, Block, Tag, Test, TestFile
from wolfbane.workspace.bridge_tables import TOGETHER, Bridge
from wolfbane.workspace.bridges import read_bridge
from wolfbane.workspace.settings import Suite


class BridgeEngine:
    """Finds tests by the bridge's patterns, and runs them through its launcher."""

    kind = "bridge"
    scan_is_exact = True
    loads_afresh = False
    tests_hold_tests = False
    has_closing_hooks = False
    reads_values = True
    keeps_limits = False

    def patterns(self, root: Path, suite: Suite) -> Sequence[str]:
        return tuple(_bridge(root, suite).find.files)

    def scan(self, root: Path, suite: Suite, path: str, source: bytes) -> TestFile | None:
        bridge = _bridge(root, suite)
        if bridge.run.names.how == "files":
            test = Test(suite.name, self.kind, path, "", line=1, end=source.count(b"\n") + 1)
            return TestFile(path, suite.name, self.kind, (test,), divisible=False)
        if bridge.find.listing:
            return TestFile(
                path, suite.name, self.kind, complete=False, dynamic=True, divisible=False
            )
        try:
            items = distinct(_items(bridge, source))
        except CannotFind as error:
            return TestFile(path, suite.name, self.kind, complete=False, error=str(error))
        tests = [
            Test(
                suite.name, self.kind, path, item.whole_name, item.line, item.end,
                tuple(Tag.parse(tag, "source") for tag in item.all_tags if tag),
                group=item.outer.whole_name if item.outer else "",
                called=item.name if item.number > 1 or NESTED in item.name else "",
            )
            for item in items if item.is_test
        ]  # fmt: skip
        blocks = [Block(i.whole_name, i.line, i.end) for i in items if not i.is_test]
        if not tests:
            return None
        return TestFile(path, suite.name, self.kind, tuple(tests), tuple(blocks), divisible=False)

    def inputs(self, root: Path, suite: Suite) -> Sequence[str]:
        return (suite.bridge,)

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        bridge = _bridge(root, suite)
        try:
            _items(bridge, b"")
        except CannotFind as error:
            raise Missing(str(error)) from None
        program = bridge.run.command[0]
        folder = root / suite.folder
        if not shutil.which(program) and not (folder / program).is_file():
            raise Missing(f"there is no launcher '{program}' ({suite.bridge})")
        command = [sys.executable, "-m", "wolfbane.workers.bridge"]
        return WorkerCommand(command, folder, {"bridge": asdict(bridge), "place": suite.bridge})

    def runtime(self, root: Path, suite: Suite) -> str:
        return _bridge(root, suite).about


def whole_files(root: Path, suites: Iterable[Suite]) -> list[str]:
    """The suites whose launchers take no names: their files are what can be chosen."""
    bridged = [suite for suite in suites if suite.bridge]
    return [s.name for s in bridged if _bridge(root, s).run.names.how == "files"]


def started_together(root: Path, suites: Iterable[Suite]) -> dict[str, str]:
    """The suites whose launchers are started for several files: a ``batch``, or the ``suite``."""
    found = {suite.name: _bridge(root, suite).run.per for suite in suites if suite.bridge}
    return {name: per for name, per in found.items() if per in TOGETHER}


def knows_more(root: Path, suite: Suite) -> bool:
    """Whether the launcher is expected to run tests that its sources do not show."""
    return _bridge(root, suite).run.names.unless_all


def _bridge(root: Path, suite: Suite) -> Bridge:
    return read_bridge(root / suite.bridge)


def _items(bridge: Bridge, source: bytes) -> list[Item]:
    lines, query = bridge.find.lines, bridge.find.query
    if query is not None:
        from wolfbane.engines.queries import queried  # grammars take a while to load

        return queried(source, query.grammar, query.text)
    if lines is None:  # a file is the test
        return []
    text = source.decode("utf-8", "replace")
    return outline(text, Patterns(lines.test, lines.group, lines.tag, lines.end))
