"""One start of the launcher: its command, its output and report, and how it ended."""

from __future__ import annotations

import os
import shlex
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from wolfbane.basis.units import seconds
from wolfbane.formats.reported import FormatError
from wolfbane.kinds.bridge.runner.calls import (
    EXTRA,
    FILES,
    LIST,
    NAMES,
    arguments_of,
    filled,
    name_values,
    names_files,
)
from wolfbane.kinds.bridge.runner.launcher_call import LauncherCall, LauncherVerdict
from wolfbane.kinds.bridge.runner.launching import LauncherEnd, launch
from wolfbane.kinds.bridge.runner.naming import LauncherName, fields_of_file
from wolfbane.kinds.bridge.runner.persistent_launcher import PersistentLauncher, Start, request_line
from wolfbane.kinds.bridge.runner.reading import ReportReading
from wolfbane.kinds.bridge.runner.reports import SCRATCH, Reports, lock_report_path
from wolfbane.kinds.bridge.runner.result_matching import Accounts
from wolfbane.kinds.bridge.runner.start_limit import StartLimit
from wolfbane.kinds.worker.channel import Channel, Message


@dataclass(frozen=True)
class StartEnd:
    """The end of a start. ``left`` are its tests without a result, ``running`` is the one of them
    that had begun.

    ``accounts`` is None if the launcher could not be started; all its tests are ``blocked`` then.
    """

    left: Sequence[LauncherName] = ()
    running: LauncherName | None = None
    verdict: LauncherVerdict | None = None
    accounts: Accounts | None = None

    @property
    def has_results(self) -> bool:
        """Whether the report had any entry."""
        return self.accounts is not None and self.accounts.entries > 0

    @property
    def is_broken(self) -> bool:
        """Whether the launcher was stopped, or ended by a signal."""
        verdict, accounts = self.verdict, self.accounts
        if verdict is None or accounts is None:
            return False
        return bool(verdict.ended) or verdict.is_crash(accounts.run)

    @property
    def is_early(self) -> bool:
        """Whether the launcher was stopped, or ended in a way that its results do not explain."""
        return self.is_broken or bool(
            self.accounts and self.verdict and self.accounts.disagreement(self.verdict)
        )

    def tell_early(self) -> None:
        """The early end is an error, if no test that ran again repeated it."""
        if self.accounts and self.verdict:
            self.accounts.tell_early(self.verdict)

    @property
    def trouble(self) -> str:
        """The reason why the report cannot be read."""
        if self.verdict:
            return self.verdict.trouble
        return ""

    def give_up(self, tests: Sequence[LauncherName]) -> None:
        """These tests get no result."""
        if self.accounts and self.verdict:
            self.accounts.give_up(tests, self.verdict)


class _Live:
    """Reads a launcher's output during the run, if the output contains the results."""

    def __init__(self, reading: ReportReading | None) -> None:
        self._reading = reading
        self._trouble = ""

    def hear(self, data: bytes) -> None:
        """Process a piece. After invalid text, the rest is only stored."""
        if self._reading and not self._trouble:
            try:
                self._reading.feed(data)
            except FormatError as error:
                self._trouble = error.message

    def close(self, *, cut: bool) -> str:
        """The launcher has ended. Returns the reason if its output cannot be read."""
        if self._reading and not self._trouble:
            try:
                self._reading.close(cut=cut)
            except FormatError as error:
                self._trouble = error.message
        return self._trouble


class LauncherStarter:
    """Starts the launcher of a bridge for some tests, and reads what it reports."""

    def __init__(
        self,
        channel: Channel,
        options: Message,
        request: Message,
        standing: PersistentLauncher | None,
    ) -> None:
        self.channel = channel
        self._standing = standing
        self.bridge: dict[str, Any] = options["bridge"]
        self._run: dict[str, Any] = self.bridge["run"]
        self._options: list[str] = options["options"]
        self._limit: float = request["limit"]
        self._reads: list[Message] = [self.bridge["read"], *self.bridge["read"].get("also", ())]
        self._known = {f"param.{key}": value for key, value in options["values"].items()}
        self._known.update(root=options["root"], browser=request["browser"])
        self.names_files = names_files(self._run)
        self.entries_name_files: bool = request["names_files"]
        """Whether the entries of the last report named the file of each test, even in a crash."""

    def start(self, call: LauncherCall, files: Sequence[str] = ()) -> StartEnd:
        """Start the launcher, and send the results. ``files`` are more files without known tests.

        Tests without a result stay, for the caller to decide about them.
        """
        read = self.bridge["read"]
        waits = bool(self._files) or read["format"] == "lines"
        call = replace(call, waits=waits, names_files=self.names_files)
        accounts = Accounts(self.channel, self.bridge, call)
        with (
            lock_report_path(report["report"] for report in self._reads),
            tempfile.TemporaryDirectory(prefix="launch-") as scratch,
            Reports(self._files, scratch) as reports,
        ):
            command = self._command(call, files, scratch)
            began = time.perf_counter()
            limit = self._start_limit(len(call.tests) or len(call.others) or 1)
            live = _Live(self._printed(accounts, limit))
            try:
                ended = self._launched(command, limit, live)
            except OSError as error:
                message = f"the launcher cannot be started: {error}"
                accounts.end_all({"outcome": "blocked", "message": message})
                return StartEnd()
            taken = time.perf_counter() - began
            code = None
            if ended.has_code:
                code = ended.code
            late = limit.reason if ended.late else ""
            asked = command.request or shlex.join(command.command)
            verdict = LauncherVerdict(
                code=code, ended=late, trouble="", output=ended.output, seconds=taken, asked=asked
            )
            cut = ended.late or verdict.is_crash(self._run)
            trouble = live.close(cut=cut)
            if self._files:
                trouble = trouble or reports.read(accounts.taker, accounts.beginner, cut=cut)
        verdict = replace(verdict, trouble="" if ended.late else trouble)
        left = accounts.close(verdict)
        # A crash can lose the line after the results, which names their file.
        early = not any(report["section_end"] for report in self._reads)
        self.entries_name_files = accounts.entries > 0 and accounts.names_files and early
        return StartEnd(
            left=left, running=accounts.running(left), verdict=verdict, accounts=accounts
        )

    @property
    def takes_files(self) -> bool:
        """Whether a start takes any number of files."""
        return FILES in " ".join(arguments_of(self._run))

    @property
    def _files(self) -> list[Message]:
        return [each for each in self._reads if each["report"]]

    def _start_limit(self, tests: int) -> StartLimit:
        starting = self._run["start_timeout"]
        return StartLimit(
            self._limit,
            tests,
            seconds(starting) if starting else 0.0,
            by_test=self._reports_begin,
        )

    @property
    def _reports_begin(self) -> bool:
        """Whether the launcher prints at once when a test begins."""
        read = self.bridge["read"]
        return not read["report"] and bool(read["began"] or "began" in read["outcomes"].values())

    def _printed(self, accounts: Accounts, limit: StartLimit) -> ReportReading | None:
        """The reading of the output, if the results are there."""
        read = self.bridge["read"]
        if read["report"]:
            return None
        take, begin = accounts.taker(read), accounts.beginner(read)

        def taken(entry: Any) -> None:
            limit.heard()
            take(entry)

        def begun(entry: Any) -> None:
            limit.heard()
            begin(entry)

        return ReportReading(read, taken, begun, live=True)

    def _launched(self, start: Start, limit: StartLimit, live: _Live) -> LauncherEnd:
        read, variables = self.bridge["read"], self._run["env"]
        apart = not read["report"] and read["format"] != "lines"  # a warning would break these
        if self._standing:
            return self._standing.ask(start, limit, live.hear, apart=apart)
        command, given = start.command, start.given
        return launch(command, variables, limit, live.hear, apart=apart, given=given)

    def _command(self, call: LauncherCall, files: Sequence[str], scratch: str) -> Start:
        """The command that runs these tests, or the lasting launcher, and the request."""
        run = self._run
        all_files = list(dict.fromkeys([*(test.file for test in call.tests), *files]))
        report = self.bridge["read"]["report"].replace(SCRATCH, scratch)
        known = {**self._known, "scratch": scratch, "report": report}
        if all_files:
            fields = fields_of_file(all_files[0])
            known.update(fields, folder=fields["folder"] or os.curdir)
        if call.by_name:
            named = call.tests
        else:
            named = []
        many = {
            NAMES: name_values(named, run["names"], Path(scratch)) if named else [],
            FILES: all_files,
            EXTRA: self._options,
        }
        option = run["names"]["option"]
        command = filled(run["command"], many, option, known)
        if not (serve := run.get("serve")):
            takes_input = bool(named) and run["names"]["how"] == "input"
            return Start(command, given=str(Path(scratch, LIST)) if takes_input else os.devnull)
        return Start(command, request_line(filled(serve["request"], many, option, known), serve))
