"""Prepares a run: builds suites, starts services, collects tests, and decides what to run."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from types import TracebackType

import msgspec

from wolfbane.environments.deployed import DeployedVersion
from wolfbane.events.run_events import Building, Collecting, Event
from wolfbane.inventory import Inventory
from wolfbane.inventory.candidate_suites import files_to_ask, suites_in_play
from wolfbane.inventory.kind_settings import check_kind_settings
from wolfbane.inventory.needed import with_needed
from wolfbane.kinds.suite import Suite
from wolfbane.model import Outcome, Result, Test, TestFile
from wolfbane.selection import Choice, choose, may_match
from wolfbane.setup.blocking import blocked_tests, suite_as_file
from wolfbane.setup.builds import Builder, BuildFailure
from wolfbane.setup.collection import collect, is_known
from wolfbane.setup.environment_setup import EnvironmentSetup
from wolfbane.setup.run_context import RunContext
from wolfbane.workers.message_data import ending


class Prepared(msgspec.Struct):
    """The result of the preparation: the tests to run, broken and blocked tests, and messages.

    ``possible`` are blocked files that may contain selected tests. ``empty`` are files that suites
    in play list but that contain no tests; ``versions`` are the deployed versions, by label.
    """

    chosen: list[Test] = msgspec.field(default_factory=list)
    left_out: dict[str, int] = msgspec.field(default_factory=dict)
    broken: list[Result] = msgspec.field(default_factory=list)
    possible: list[Result] = msgspec.field(default_factory=list)
    stale: list[str] = msgspec.field(default_factory=list)
    empty: list[str] = msgspec.field(default_factory=list)
    pulled_in: dict[str, str] = msgspec.field(default_factory=dict)
    versions: dict[str, DeployedVersion] = msgspec.field(default_factory=dict)


class Preparation:
    """Prepares a run in its pool. Services that it starts are stopped when it is closed."""

    def __init__(
        self,
        *,
        inventory: Inventory,
        choice: Choice,
        status: Mapping[str, str],
        context: RunContext,
        tell: Callable[[Event], None],
    ) -> None:
        self._inventory, self._choice, self._status = inventory, choice, status
        self._context, self._tell = context, tell
        self._workspace = inventory.workspace
        self._targets = list(context.environments)
        self._shown: set[tuple[str, str]] = set()
        self.trusting = False
        """Whether unchanged files are not loaded again, because nothing will run."""
        self.environment_setup = EnvironmentSetup(context, tell)

    async def __aenter__(self) -> Preparation:
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.environment_setup.close()

    async def prepare(
        self,
        build: str,
        times: Mapping[str, float],
        timeout: float | None,
        *,
        start: bool = True,
        elsewhere: bool = False,
    ) -> Prepared:
        """Do all of it once for each target.

        Without ``start``, no service starts, and only builds that the plan needs run.
        ``elsewhere``: the run takes place on other machines, which have their own browsers.

        Raises InputError if settings use names that the documents of a suite do not define.
        """
        check_kind_settings(self._inventory, self._in_play(), self._context.environments.values())
        builder = Builder(self._context, build, self._tell)
        await builder.build(self._in_play() if start else self._to_be_asked())
        if start:
            await builder.prepare(self._in_play())
        if builder.ran:
            self._inventory.rescan()
        if start:
            blocked = await self.environment_setup.prepare(self._in_play())
        else:
            blocked = {}
        prepared = Prepared(stale=builder.stale, versions=self.environment_setup.versions)
        for target in self._targets:
            files = self._asked(target)
            self._block(self._unbuilt(files, builder.failures), target, prepared)
            files = [file for file in files if file.suite not in builder.failures]
            why = {suite: message for (label, suite), message in blocked.items() if label == target}
            stuck = [(file, why[file.suite], "") for file in files if file.suite in why]
            self._block(stuck, target, prepared)
            files = [file for file in files if file.suite not in why]
            await self._collect(files, times, timeout, target=target, into=prepared)
        if not elsewhere:
            self._without_browsers(prepared)
        if not prepared.chosen and not prepared.broken:  # these files are the reason
            prepared.broken, prepared.possible = prepared.possible, []
        empty = (*prepared.empty, *self._proven_empty())
        prepared.empty = sorted({p for p in empty if not p.endswith("__init__.py")})
        self._inventory.save()
        return prepared

    def _without_browsers(self, prepared: Prepared) -> None:
        """Tests whose browser is missing are blocked, not run."""
        why = self._context.browsers.absent({test.browser for test in prepared.chosen})
        builder = self._context.results
        prepared.broken += [
            builder.make(test, ending(Outcome.BLOCKED, why[test.browser]), "")
            for test in prepared.chosen
            if test.browser in why
        ]
        prepared.chosen = [test for test in prepared.chosen if test.browser not in why]

    def _in_play(self) -> list[Suite]:
        return suites_in_play(self._inventory, self._choice, self._status, targets=self._targets)

    def _to_be_asked(self) -> list[Suite]:
        """The suites in play whose tests only a worker can list."""
        suites = {f.suite for t in self._targets for f in self._asked(t) if not self._is_known(f)}
        has_files = {file.suite for file in self._inventory.files.values()}
        return [s for s in self._in_play() if s.name in suites or s.name not in has_files]

    def _is_known(self, file: TestFile) -> bool:
        return is_known(file, trusting=self.trusting)

    def _proven_empty(self) -> Iterator[str]:
        """Files that suites in play list, but that contain no tests according to their source."""
        for suite in self._in_play():
            for path in self._inventory.without_tests.get(suite.name, ()):
                file = TestFile(path, suite.name, suite.kind)
                if may_match(self._choice.expression, file) is not False:
                    yield path

    def _asked(self, target: str) -> list[TestFile]:
        return files_to_ask(self._inventory, self._choice, self._status, target=target)

    def _block(
        self, reasons: Sequence[tuple[TestFile, str, str]], target: str, into: Prepared
    ) -> None:
        """Add the results of blocked files: the reason and an output for each."""
        blocked = blocked_tests(
            self._context.results,
            self._inventory,
            self._choice,
            status=self._status,
            target=target,
            reasons=reasons,
        )
        into.broken += blocked.certain
        into.possible += blocked.possible

    def _unbuilt(
        self, files: Sequence[TestFile], failures: Mapping[str, BuildFailure]
    ) -> list[tuple[TestFile, str, str]]:
        """The files of suites whose build failed; the first of each suite has its output."""
        present = {file.suite for file in files}
        suites = (self._workspace.suite(name) for name in failures if name not in present)
        reasons = []
        told: set[str] = set()
        for file in [*files, *map(suite_as_file, suites)]:
            if failure := failures.get(file.suite):
                output = ""
                if file.suite not in told:
                    output = failure.output
                told.add(file.suite)
                reasons.append((file, failure.message, output))
        return reasons

    def _building(self, suite: str, text: str) -> None:
        """Report once that workers build something, even if several do."""
        if (suite, text) not in self._shown:
            self._shown.add((suite, text))
            self._tell(Building(suite, text))

    async def _collect(
        self,
        files: Sequence[TestFile],
        times: Mapping[str, float],
        timeout: float | None,
        target: str,
        into: Prepared,
    ) -> None:
        total = len(files)

        def progress(done: int, file: str = "", seconds: float = 0.0) -> None:
            self._tell(Collecting(done=done, total=total, file=file, seconds=seconds))

        if not all(map(self._is_known, files)):
            progress(0)
        collected = await collect(
            self._context,
            files,
            times=times,
            timeout=timeout,
            progress=progress,
            building=self._building,
            target=target,
            trusting=self.trusting,
        )
        self._inventory.collected(collected.files)
        verdict = choose(self._choice, self._inventory.tests_at(target), self._status)
        paths = {file.path for file in files}
        broken = {result.path for result in collected.broken}
        broken.update(file.path for file, _ in collected.unstartable)
        into.broken += collected.broken
        unstartable = [(file, message, "") for file, message in collected.unstartable]
        self._block(unstartable, target, into)
        into.empty += [file.path for file in collected.files if not file.tests and not file.error]
        chosen = [t for t in verdict.chosen if t.path in paths and t.path not in broken]
        tests, pulled_in = with_needed(chosen, self._inventory.tests_at(target))
        into.chosen += tests
        into.pulled_in.update(pulled_in)
        into.left_out.update(verdict.left_out)
