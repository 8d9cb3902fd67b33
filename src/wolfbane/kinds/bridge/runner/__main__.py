"""Runs a bridge suite, controlled through the channel."""

from __future__ import annotations

import os
import shlex
import sys
import tempfile
import time
from collections.abc import Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import Any

from wolfbane.formats.reported import FormatError
from wolfbane.kinds.bridge.runner.calls import (
    EXTRA,
    FILES,
    NAMES,
    filled,
    in_calls,
    name_values,
    needs_no_names,
    unsayable,
)
from wolfbane.kinds.bridge.runner.launching import LauncherEnd, launch
from wolfbane.kinds.bridge.runner.listing import Lister
from wolfbane.kinds.bridge.runner.naming import Called, called
from wolfbane.kinds.bridge.runner.reading import ReportReading
from wolfbane.kinds.bridge.runner.reports import SCRATCH, Reports, alone_at
from wolfbane.kinds.bridge.runner.result_matching import Accounts, LauncherCall, LauncherVerdict
from wolfbane.kinds.bridge.runner.standing import StandingLauncher, Start, request_line
from wolfbane.kinds.worker.channel import Channel, Message, connect
from wolfbane.kinds.worker.heartbeat import heartbeat


def main() -> None:
    """Serve requests until Wolfbane closes the channel."""
    channel, options, requests = connect(f"Python {sys.version.split()[0]}")
    tempfile.tempdir = os.path.dirname(options["capture"])  # it goes with the run, even if killed
    lister = Lister(channel, options)
    run = options["bridge"]["run"]
    serve = run.get("serve")
    with StandingLauncher(serve["done"], run["env"]) if serve else nullcontext() as standing:
        for request in requests:
            if request["type"] == "collect":
                for path in request["files"]:
                    lister.collect(path)
            elif request["type"] == "run":
                _Chosen(channel, options, request, standing).run()
                channel.send({"type": "ran", "file": request["file"]})


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
                self._trouble = error.words

    def close(self) -> str:
        """The launcher has ended. Returns the reason if its output cannot be read."""
        if self._reading and not self._trouble:
            try:
                self._reading.close()
            except FormatError as error:
                self._trouble = error.words
        return self._trouble


class _Chosen:
    """Runs the selected tests of one file or several, in as many launcher calls as needed."""

    def __init__(
        self, channel: Channel, options: Message, request: Message,
        standing: StandingLauncher | None,
    ) -> None:  # fmt: skip
        self.channel = channel
        self._standing = standing
        self.bridge: dict[str, Any] = options["bridge"]
        self.place: str = options["place"]
        self._options: list[str] = options["options"]
        self.limit: float = request["limit"]
        self._root: str = options["root"]
        self._chosen: dict[str, list[str]] = request["chosen"]
        self._all: dict[str, list[list[Any]]] = request["known"]
        self._whole = {p for p, names in self._chosen.items() if len(names) == len(self._all[p])}
        self._others = self._not_chosen()
        self._names_of_others = frozenset(name for _, name, _ in self._others)
        self._reads: list[Message] = [self.bridge["read"], *self.bridge["read"].get("also", ())]
        self._known = {f"param.{key}": value for key, value in options["values"].items()}
        self._known.update(root=self._root, browser=request["browser"])

    def run(self) -> None:
        run = self.bridge["run"]
        tests = called(self._chosen, self._all, self._relative, self.bridge)
        reasons = {test: why for test in tests if (why := unsayable(test, run["names"]))}
        for test, why in reasons.items():
            accounts = Accounts(self.channel, self.bridge, LauncherCall([test], self.place))
            accounts.end_all({"outcome": "errored", "message": why})
        with heartbeat(self.channel, self.bridge["about"]):
            for some in in_calls([test for test in tests if test not in reasons], run, self._whole):
                with (
                    alone_at(report["report"] for report in self._reads),
                    tempfile.TemporaryDirectory(prefix="launch-") as scratch,
                ):
                    self._call(some, scratch)

    def _not_chosen(self) -> dict[tuple[str, str, int], str]:
        """The addresses of the other tests of these files, by their names in the launcher."""
        known = {path: [name for name, *_ in tests] for path, tests in self._all.items()}
        tests = called(known, self._all, self._relative, self.bridge)
        return {
            (test.path, test.read_as, test.number): test.address
            for test in tests if test.name not in self._chosen[test.path]
        }  # fmt: skip

    def _relative(self, path: str) -> str:
        return os.path.relpath(os.path.join(self._root, path))

    def _call(self, tests: Sequence[Called], scratch: str) -> None:
        """Start the launcher for some tests, read its report, and account for each test."""
        read = self.bridge["read"]
        named = not needs_no_names(tests, self.bridge["run"], self._whole)
        files = [each for each in self._reads if each["report"]]
        waits = bool(files) or read["format"] == "lines"
        call = LauncherCall(tests, self.place, self._others, self._names_of_others, named, waits)
        accounts = Accounts(self.channel, self.bridge, call)
        reports = Reports(files, scratch) if files else None
        printed = None if read["report"] else ReportReading(read, accounts.taker(read), live=True)
        live = _Live(printed)
        began = time.perf_counter()
        start = self._start(tests, scratch, read["report"].replace(SCRATCH, scratch))
        try:
            ended = self._launched(start, self.limit * len(tests), live)
        except OSError as error:
            words = f"the launcher cannot be started: {error}"
            accounts.end_all({"outcome": "blocked", "message": words})
            return
        trouble = "" if ended.late else live.close()
        if reports:
            trouble = trouble or reports.read(accounts.taker)
        late = f"the launcher ran longer than {self.limit * len(tests):g} s" if ended.late else ""
        seconds = time.perf_counter() - began
        shown = start.request or shlex.join(start.command)
        code = ended.code if ended.has_code else None
        accounts.close(LauncherVerdict(code, late, trouble, ended.output, seconds, shown))

    def _launched(self, start: Start, limit: float, live: _Live) -> LauncherEnd:
        read, variables = self.bridge["read"], self.bridge["run"]["env"]
        apart = not read["report"] and read["format"] != "lines"  # a warning would break these
        if self._standing:
            return self._standing.ask(start, limit, live.hear, apart=apart)
        return launch(start.command, variables, limit, live.hear, apart=apart)

    def _start(self, tests: Sequence[Called], scratch: str, report: str) -> Start:
        """The command that runs these tests, or the lasting launcher, and the request."""
        run = self.bridge["run"]
        known = {**self._known, "file": tests[0].file, "scratch": scratch, "report": report}
        named = [] if needs_no_names(tests, run, self._whole) else tests
        many = {
            NAMES: name_values(named, run["names"], Path(scratch)) if named else [],
            FILES: list(dict.fromkeys(test.file for test in tests)),
            EXTRA: self._options,
        }
        option = run["names"]["option"]
        command = filled(run["command"], many, option, known)
        if not (serve := run.get("serve")):
            return Start(command)
        return Start(command, request_line(filled(serve["request"], many, option, known), serve))


if __name__ == "__main__":
    main()
