"""Kind ``bridge``: suites with their own launcher, described in a file."""

from __future__ import annotations

import shutil
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path, PurePosixPath

from msgspec import to_builtins
from msgspec.structs import replace

from wolfbane.basis.files import is_file
from wolfbane.basis.toml_lines import Location
from wolfbane.kinds.bridge.file import check_bridge, read_bridge
from wolfbane.kinds.bridge.outline import CannotFind, Item, Patterns, distinct, outline
from wolfbane.kinds.bridge.tables import EXTRA, TOGETHER, Bridge, BridgeSuite
from wolfbane.kinds.compiled import compiled_sources
from wolfbane.kinds.compiled.sources import whole_file
from wolfbane.kinds.contract import (
    OMIT_ALWAYS,
    Kind,
    MissingRuntime,
    WorkerCommand,
    own_process,
)
from wolfbane.kinds.imports import JAVASCRIPT, PYTHON, beside, places
from wolfbane.kinds.protocols import HasLauncher, HasUntracedSources, Relocatable, TakesOptions
from wolfbane.kinds.relocation import Relocation
from wolfbane.model import NESTED, Block, Tag, Test, TestFile


class BridgeKind(
    Kind[BridgeSuite],
    HasLauncher[BridgeSuite],
    HasUntracedSources[BridgeSuite],
    Relocatable[BridgeSuite],
    TakesOptions[BridgeSuite],
):
    """Finds tests by the bridge's patterns, and runs them through its launcher."""

    name = "bridge"
    suite_type = BridgeSuite
    scan_is_exact = True
    reads_values = True
    keeps_limits = True
    settings_files = ("bridge",)

    def patterns(self, root: Path, suite: BridgeSuite) -> Sequence[str]:
        """The bridge's own globs."""
        return tuple(_bridge(root, suite).find.files)

    def scan(self, root: Path, suite: BridgeSuite, path: str, source: bytes) -> TestFile | None:
        """Find tests by the bridge's patterns, query or list."""
        bridge = _bridge(root, suite)
        if bridge.run.names.how == "files":
            return whole_file(root, suite, path, source=source)
        if bridge.find.listing:
            return TestFile(
                path,
                suite.name,
                self.name,
                complete=False,
                dynamic=True,
                divisible=False,
                depends=compiled_sources(root, suite, path, content=source),
            )
        try:
            items = distinct(_items(bridge, source))
        except CannotFind as error:
            return TestFile(path, suite.name, self.name, complete=False, error=str(error))
        tests = [
            Test(
                suite=suite.name,
                kind=self.name,
                path=path,
                name=item.whole_name,
                line=item.line,
                end=item.end,
                tags=tuple(Tag.parse(tag, "source") for tag in item.all_tags if tag),
                group=item.outer.whole_name if item.outer else "",
                source_name=item.name if item.number > 1 or NESTED in item.name else "",
            )
            for item in items
            if item.is_test
        ]
        blocks = [Block(i.whole_name, i.line, i.end) for i in items if not i.is_test]
        if not tests:
            return None
        return TestFile(
            path=path,
            suite=suite.name,
            kind=self.name,
            tests=tuple(tests),
            blocks=tuple(blocks),
            divisible=False,
        )

    def inputs(self, root: Path, suite: BridgeSuite) -> Sequence[str]:
        """The bridge file, and the files that its commands name."""
        run = _bridge(root, suite).run
        arguments = [*run.arguments, *(word for line in run.before for word in line.split())]
        named = (path for word in arguments for path in places(word, [suite.folder, "."]))
        return (suite.bridge, *(path for path in dict.fromkeys(named) if is_file(root / path)))

    def untraced(self, root: Path, suite: BridgeSuite) -> Sequence[str]:
        """The files with the endings of the test files: all in the suite's folder. If Wolfbane
        follows their imports, only those that a launcher may load by itself, below the test folders
        or directly in a folder above one.
        """
        globs = [*_bridge(root, suite).find.files, *suite.paths]
        endings = sorted({PurePosixPath(glob).suffix for glob in globs} - {""})
        followed = [ending for ending in endings if ending in (*PYTHON, *JAVASCRIPT)]
        start = ""
        if suite.folder != ".":
            start = f"{suite.folder}/"
        listed = [
            path.partition("*")[0].rpartition("/")[0] or path.rstrip("/")
            for path in suite.paths
            if path != "."
        ]
        return [
            *(f"{start}**/*{ending}" for ending in endings if ending not in followed),
            *(f"{folder}/**/*{ending}" for folder in listed for ending in followed),
            *beside(suite, [f"*{ending}" for ending in followed]),
        ]

    def worker(self, root: Path, suite: BridgeSuite) -> WorkerCommand:
        """A process of Wolfbane's that starts the launcher."""
        bridge = _bridge(root, suite)
        try:
            _items(bridge, b"")
        except CannotFind as error:
            raise MissingRuntime(str(error)) from None
        program = bridge.run.arguments[0]
        folder = root / suite.folder
        if not shutil.which(program) and not (folder / program).is_file():
            raise MissingRuntime(f"launcher '{program}' not found ({suite.bridge})")
        command = own_process("wolfbane.kinds.bridge.runner")
        return WorkerCommand(
            command,
            folder,
            {"bridge": to_builtins(bridge), "place": suite.bridge, "options": suite.options},
        )

    def commands_before(self, root: Path, suite: BridgeSuite) -> Sequence[str]:
        return tuple(_bridge(root, suite).run.before)

    def with_options(self, root: Path, suite: BridgeSuite, options: Sequence[str]) -> BridgeSuite:
        """Options of the launcher, if the bridge defines their place."""
        if EXTRA not in _bridge(root, suite).run.arguments:
            raise ValueError(f"{suite.bridge} has no {EXTRA} in 'command' of [run]")
        return replace(suite, options=[*suite.options, *options])

    def runtime(self, root: Path, suite: BridgeSuite) -> str:
        return _bridge(root, suite).about

    def wrong_settings(
        self, root: Path, suite: BridgeSuite, parameters: Collection[str]
    ) -> Iterator[tuple[Location, str]]:
        if not suite.bridge:
            yield (), f"suite '{suite.name}' of kind bridge has no bridge file; set 'bridge'"
            return
        check_bridge(root / suite.bridge, parameters)

    def relocated(self, suite: BridgeSuite, to: Relocation) -> BridgeSuite:
        return replace(suite, bridge=to.path(suite.bridge))

    def result_path(self, suite: BridgeSuite) -> str:
        return suite.bridge

    def runs_whole_files(self, root: Path, suite: BridgeSuite) -> bool:
        return _bridge(root, suite).run.names.how == "files"

    def started_together(self, root: Path, suite: BridgeSuite) -> str:
        per = _bridge(root, suite).run.per
        if per in TOGETHER:
            return per
        return ""

    def omits_names(self, root: Path, suite: BridgeSuite) -> str:
        names = _bridge(root, suite).run.names
        if names.how == "files":
            return ""
        return names.omit

    def unexpected_result(self, root: Path, suite: BridgeSuite) -> str:
        always = _bridge(root, suite).run.names.omit == OMIT_ALWAYS
        if always:
            return ""
        return f"wolfbane bridge check {suite.bridge}"


def _bridge(root: Path, suite: BridgeSuite) -> Bridge:
    return read_bridge(root / suite.bridge)


def _items(bridge: Bridge, source: bytes) -> list[Item]:
    lines, query = bridge.find.lines, bridge.find.query
    if query is not None:
        from wolfbane.kinds.bridge.queries import queried  # grammars take a while to load

        return queried(source, query.grammar, query.text)
    if lines is None:  # a file is the test
        return []
    text = source.decode("utf-8", "replace")
    return outline(text, Patterns(test=lines.test, group=lines.group, tag=lines.tag, end=lines.end))


KIND = BridgeKind()
