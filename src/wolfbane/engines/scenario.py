"""The engine of kind ``scenario``: plain-language feature files, with steps in Python."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path, PurePosixPath

from wolfbane.engines.contract import WorkerCommand
from wolfbane.engines.pythonic import python_worker, runtime
from wolfbane.formats.feature import FeatureError, read
from wolfbane.model import Block, Tag, Test, TestFile
from wolfbane.workspace.settings import Suite

STEPS = "steps"


class ScenarioEngine:
    """One test for each scenario and for each row of an outline; each step is a part."""

    kind = "scenario"
    scan_is_exact = True
    loads_afresh = False
    tests_hold_tests = False
    reads_values = False
    keeps_limits = False
    has_closing_hooks = True

    def patterns(self, root: Path, suite: Suite) -> Sequence[str]:
        return ("*.feature",)

    def scan(self, root: Path, suite: Suite, path: str, source: bytes) -> TestFile | None:
        try:
            feature = read(source.decode("utf-8-sig"))
        except (FeatureError, UnicodeDecodeError) as error:
            return TestFile(path, suite.name, self.kind, complete=False, error=str(error))
        tests = [
            Test(
                suite.name, self.kind, path, scenario.name, scenario.line, scenario.end,
                tuple(Tag.parse(tag, "tag line") for tag in scenario.tags),
            )
            for scenario in feature.scenarios
        ]  # fmt: skip
        blocks = [Block(s.name, s.start, s.end) for s in feature.sections]
        return TestFile(
            path, suite.name, self.kind, tuple(tests), tuple(blocks), divisible=False,
            warnings=tuple(f"{line}: {words}" for words, line in feature.warnings),
        )  # fmt: skip

    def inputs(self, root: Path, suite: Suite) -> Sequence[str]:
        return steps_folders(root, suite)

    def worker(self, root: Path, suite: Suite) -> WorkerCommand:
        command = python_worker(root, suite)
        steps = steps_folders(root, suite)
        return replace(command, options={**command.options, "steps": steps})

    def runtime(self, root: Path, suite: Suite) -> str:
        return runtime(root, suite)


def steps_folders(root: Path, suite: Suite) -> list[str]:
    """The folders with a suite's steps: those it names, else ``steps`` in or beside its paths."""
    if suite.steps:
        return list(suite.steps)
    found: dict[str, None] = {}
    for path in suite.paths:
        place = PurePosixPath(path.partition("*")[0].rstrip("/") or ".")
        folder = place if (root / place).is_dir() else place.parent
        for candidate in (folder / STEPS, folder.parent / STEPS):
            if (root / candidate).is_dir():
                found[str(candidate)] = None
                break
    return list(found)
