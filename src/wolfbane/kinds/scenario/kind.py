"""Kind ``scenario``: plain-language feature files, with steps in Python."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import Any, Self

from msgspec import structs
from msgspec.structs import replace

from wolfbane.kinds.contract import Kind, WorkerCommand
from wolfbane.kinds.imports import ImportReader
from wolfbane.kinds.protocols import (
    Detects,
    FollowsImports,
    HasClosingHooks,
    HasPathSettings,
    HasSteps,
    Live,
    Relocatable,
)
from wolfbane.kinds.python.imports import PYTHON_IMPORTS, module_roots, project_files
from wolfbane.kinds.python.interpreters import python_worker, runtime
from wolfbane.kinds.python.project import interpreter_lines, source_folder
from wolfbane.kinds.python.settings import InterpretedSuite
from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.steps import StepLine
from wolfbane.model import Block, Tag, Test, TestFile

STEPS = "steps"
_WORKER = "wolfbane.kinds.scenario.worker.runner"


class ScenarioSuite(InterpretedSuite, frozen=True):
    """A suite of feature files. ``steps`` are the folders with its step functions."""

    steps: list[str] = []

    def relocated(self, to: Relocation) -> Self:
        """The suite with its paths relative to an outer workspace."""
        return replace(super().relocated(to), steps=to.paths(self.steps))


class ScenarioKind(
    Kind[ScenarioSuite],
    Detects[ScenarioSuite],
    FollowsImports[ScenarioSuite],
    HasClosingHooks,
    HasPathSettings[ScenarioSuite],
    HasSteps,
    Live,
    Relocatable[ScenarioSuite],
):
    """Each scenario, and each row of an outline, is a test. Each step is a part of the test."""

    name = "scenario"
    suite_type = ScenarioSuite
    scan_is_exact = True
    parts_are = "steps"

    def patterns(self, root: Path, suite: ScenarioSuite) -> Sequence[str]:
        """Feature files."""
        return ("*.feature",)

    def scan(self, root: Path, suite: ScenarioSuite, path: str, source: bytes) -> TestFile | None:
        """A test for each scenario, and for each row of an outline."""
        from wolfbane.kinds.scenario.worker.feature import FeatureError, read

        try:
            feature = read(source.decode("utf-8-sig"))
        except (FeatureError, UnicodeDecodeError) as error:
            return TestFile(path, suite.name, self.name, complete=False, error=str(error))
        tests = [
            Test(
                suite=suite.name,
                kind=self.name,
                path=path,
                name=scenario.name,
                line=scenario.line,
                end=scenario.end,
                tags=tuple(Tag.parse(tag, "tag line") for tag in scenario.tags),
            )
            for scenario in feature.scenarios
        ]
        blocks = [Block(s.name, s.start, s.end) for s in feature.sections]
        return TestFile(
            path=path,
            suite=suite.name,
            kind=self.name,
            tests=tuple(tests),
            blocks=tuple(blocks),
            divisible=False,
            warnings=tuple(f"{line}: {message}" for message, line in feature.warnings),
        )

    def inputs(self, root: Path, suite: ScenarioSuite) -> Sequence[str]:
        """The folders with steps, including the default ones, and the project's manifests."""
        return (*steps_folders(root, suite), *project_files(suite))

    def worker(self, root: Path, suite: ScenarioSuite) -> WorkerCommand:
        """The suite's own interpreter, with Wolfbane's worker for scenarios."""
        command = python_worker(root, suite, _WORKER)
        steps = steps_folders(root, suite)
        return structs.replace(command, options={**command.options, "steps": steps})

    def runtime(self, root: Path, suite: ScenarioSuite) -> str:
        return runtime(root, suite)

    def paths_in_settings(self, suite: ScenarioSuite) -> Mapping[str, Sequence[str]]:
        return {"steps": suite.steps}

    def relocated(self, suite: ScenarioSuite, to: Relocation) -> ScenarioSuite:
        return suite.relocated(to)

    def import_reader(self) -> ImportReader:
        return PYTHON_IMPORTS

    def import_roots(self, root: Path, suite: ScenarioSuite) -> tuple[str, ...]:
        return (*module_roots(suite), *steps_folders(root, suite))

    def steps(self, source: str, name: str) -> Sequence[StepLine]:
        from wolfbane.kinds.scenario.worker.feature import read

        scenarios = {each.name: each for each in read(source).scenarios}
        if name in scenarios:
            steps = scenarios[name].steps
        else:
            steps = ()
        return [StepLine(step.keyword, step.text, step.line) for step in steps]

    def owns_name(self, name: str) -> bool:
        return name.endswith(".feature")

    def claims(self, root: Path, file: str) -> bool:
        """Feature files."""
        return file.endswith(".feature")

    def glob_for(self, name: str) -> str:
        return "*.feature"

    def detected_settings(self, root: Path, folder: str) -> dict[str, Any]:
        return source_folder(root, folder)

    def settings_lines(self, root: Path, suite: ScenarioSuite) -> Sequence[str]:
        return interpreter_lines(root, suite)

    def settings_hints(self, suite: ScenarioSuite) -> Sequence[str]:
        return ["# steps = [\"features/steps\"]     # default: the folder 'steps' there"]


def steps_folders(root: Path, suite: ScenarioSuite) -> list[str]:
    """The folders with a suite's steps: those it names, or ``steps`` in or next to its paths."""
    if suite.steps:
        return list(suite.steps)
    folders: dict[str, None] = {}
    for path in suite.paths:
        base = PurePosixPath(path.partition("*")[0].rstrip("/") or ".")
        if (root / base).is_dir():
            folder = base
        else:
            folder = base.parent
        for candidate in (folder / STEPS, folder.parent / STEPS):
            if (root / candidate).is_dir():
                folders[str(candidate)] = None
                break
    return list(folders)


KIND = ScenarioKind()
