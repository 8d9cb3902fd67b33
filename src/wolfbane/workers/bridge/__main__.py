"""Serve a suite behind a bridge over the channel."""

from __future__ import annotations

import os
import platform
import selectors
import shutil
import signal
import subprocess
import tempfile
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import IO, Any

from wolfbane.exits import how_it_ended
from wolfbane.formats.entries import Entry, FormatError
from wolfbane.workers.bridge.calls import Called, called, filled, in_calls, name_values
from wolfbane.workers.bridge.reading import Reading, Reports, read_file
from wolfbane.workers.channel import Channel, Message, connect
from wolfbane.workers.heartbeat import heartbeat

KEPT = 1 << 18
TICK = 0.05
BAD = frozenset({"failed", "errored", "timed out", "crashed"})


def main() -> None:
    """Serve requests until Wolfbane closes the channel."""
    channel, options, requests = connect(f"Python {platform.python_version()}")
    for request in requests:
        if request["type"] == "collect":
            for path in request["files"]:  # those of which the core could not tell the tests
                words = "its tests cannot be found"
                told = {"type": "collected", "file": path, "divisible": False}
                channel.send({"type": "collecting", "file": path})
                channel.send({**told, "outcome": "errored", "message": words})
        elif request["type"] == "run":
            _File(channel, options, request).run()
            channel.send({"type": "ran", "file": request["file"]})


class _File:
    """The chosen tests of one file, in as many calls of the launcher as their names take."""

    def __init__(self, channel: Channel, options: Message, request: Message) -> None:
        self.channel, self.path = channel, request["file"]
        self.bridge: dict[str, Any] = options["bridge"]
        self.values: dict[str, str] = options["values"]
        self.root: str = options["root"]
        self.file = os.path.relpath(os.path.join(self.root, self.path))
        self.names: list[str] = request["names"]
        self.limit: float = request["limit"]

    def run(self) -> None:
        naming = self.bridge["run"]["names"]
        tests = called(self.names, self.file, naming["name"], naming["nested"])
        with heartbeat(self.channel, self.bridge["about"]):
            for some in in_calls(tests, naming["how"]):
                with tempfile.TemporaryDirectory(prefix="launch-") as scratch:
                    _Call(self, some, Path(scratch)).make()


class _Call:
    """One start of the launcher for some tests, and what became of each."""

    def __init__(self, file: _File, tests: Sequence[Called], scratch: Path) -> None:
        self.file, self.tests, self.scratch = file, tests, scratch
        self.channel, self.bridge = file.channel, file.bridge
        self.left: dict[str, list[str]] = {}
        for test in tests:
            self.left.setdefault(test.known_as, []).append(test.name)
        self.output = b""
        self.bad = False
        self.told = 0
        self.parts: list[Message] = []

    @property
    def whole_file(self) -> bool:
        """Whether the file is the test, and entries are its parts."""
        return bool(self.bridge["run"]["names"]["how"] == "files")

    def make(self) -> None:
        """Start it, read what it says, and account for every test."""
        read, trouble = self.bridge["read"], ""
        pattern = read["report"].replace("{scratch}", str(self.scratch))
        reports = Reports(pattern) if pattern else None
        began = time.perf_counter()
        try:
            code, ended = self._launch(None if pattern else Reading(read, self._take))
            files = reports.fresh() if reports else []
            for path in files:
                read_file(path, read, self._take)
            if reports and not files:
                trouble = f"the launcher left no report at {read['report']}"
        except FormatError as error:
            code, ended, trouble = 0, "", error.words
        except OSError as error:
            self._end_all({"outcome": "blocked", "message": f"it cannot be started: {error}"})
            return
        self._account(code, ended, trouble, time.perf_counter() - began)

    def _launch(self, live: Reading | None) -> tuple[int, str]:
        """The exit code, and how it was ended where it did not end by itself."""
        limit = self.file.limit * max(len(self.tests), 1)
        process = subprocess.Popen(
            self._command(), stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT, env={**os.environ, **self._variables()},
            start_new_session=True,
        )  # fmt: skip
        assert process.stdout is not None
        over = threading.Event()

        def end() -> None:
            over.set()
            _kill(process)

        timer = threading.Timer(limit, end)
        timer.start()
        try:
            self._follow(process, process.stdout, live)
            code = process.wait()
        finally:
            timer.cancel()
            _kill(process)
        if live is not None and not over.is_set():
            live.close()
        return code, f"the launcher ran longer than {limit:g} s" if over.is_set() else ""

    def _follow(
        self, process: subprocess.Popen[bytes], stream: IO[bytes], live: Reading | None
    ) -> None:
        """Read what it prints, until it has ended: a child may hold the stream open for ever."""
        with selectors.DefaultSelector() as selector:
            selector.register(stream, selectors.EVENT_READ)
            while True:
                if not selector.select(TICK):
                    if process.poll() is not None:
                        return
                    continue
                data = os.read(stream.fileno(), 1 << 16)
                if not data:
                    return
                self.output = (self.output + data)[-KEPT:]
                if live is not None:
                    live.feed(data)

    def _command(self) -> list[str]:
        run = self.bridge["run"]
        values = name_values(self.tests, run["names"], self.scratch)
        command = filled(run["command"], values, run["names"]["option"], self._single)
        if "/" in command[0] and not os.path.isabs(command[0]):
            command[0] = os.path.abspath(command[0])
        elif found := shutil.which(command[0]):
            command[0] = found
        return command

    def _single(self, name: str) -> str:
        known: dict[str, str] = {
            "file": self.file.file, "scratch": str(self.scratch), "root": self.file.root,
            "report": self.bridge["read"]["report"].replace("{scratch}", str(self.scratch)),
        }  # fmt: skip
        if name.startswith("param."):
            return self.file.values.get(name.removeprefix("param."), "")
        return known.get(name, f"{{{name}}}")

    def _variables(self) -> dict[str, str]:
        return {key: str(value) for key, value in self.bridge["run"]["env"].items()}

    def _take(self, entry: Entry) -> None:
        """An entry of the report: a test that was asked for, or one that nobody knew."""
        fields = {
            "name": entry.name, "group": entry.group, "suite": entry.suite, "file": entry.file
        }  # fmt: skip
        known_as = self.bridge["read"]["name"].format(**fields)
        outcome = str(entry.outcome)
        self.bad |= outcome in BAD
        self.told += 1
        if self.whole_file:
            self.parts.append(_part(entry, known_as))
            return
        waiting = self.left.get(known_as)
        name = waiting.pop(0) if waiting else known_as
        address = f"{self.file.path}#{name}"
        self.channel.hold({"type": "started", "address": address})
        if entry.output:
            said = {"type": "output", "address": address, "stream": "both", "text": entry.output}
            self.channel.hold(said)
        finished = {"type": "finished", "address": address, "seconds": entry.seconds}
        self.channel.send({**finished, "outcome": outcome, **self._told(entry)})

    def _told(self, entry: Entry) -> Message:
        told: Message = {"message": entry.message, "trace": entry.detail}
        if entry.parts:
            told["parts"] = [{"name": p.name, "outcome": str(p.outcome)} for p in entry.parts]
        if entry.line:
            file = os.path.abspath(entry.file or self.file.file)
            told["frames"] = [{"file": file, "line": entry.line, "function": entry.name}]
        return told

    def _account(self, code: int, ended: str, trouble: str, seconds: float) -> None:
        """What has no entry is an error; so is an exit code that says something else."""
        run = self.bridge["run"]
        how = "" if code in (*run["passed"], *run["failed"]) else how_it_ended(code)
        if self.whole_file:
            self._end_file(how, ended, trouble, code, seconds)
            return
        waiting = [name for names in self.left.values() for name in names]
        silent = f"no result came back ({how_it_ended(code)})" if code else "no result came back"
        why = ended or trouble or (f"the launcher ended: {how}" if how else silent)
        outcome = "timed out" if ended else "errored"
        if waiting:
            self._end_all({"outcome": outcome, "message": why}, waiting)
        elif wrong := ended or trouble or self._disagreement(code, how):
            self._end_all({"outcome": outcome, "message": wrong}, [""])

    def _disagreement(self, code: int, how: str) -> str:
        """What is wrong where the exit code and the report say different things."""
        run = self.bridge["run"]
        if how:
            return f"the launcher ended: {how}, though its report is whole"
        if self.bad and code not in run["failed"]:
            return f"tests failed in the report, but the exit code is {code}"
        if not self.bad and code not in run["passed"]:
            return f"no test failed in the report, but the exit code is {code}"
        return ""

    def _end_file(self, how: str, ended: str, trouble: str, code: int, seconds: float) -> None:
        failed = sum(part["outcome"] in BAD for part in self.parts)
        wrong = ended or trouble or ("" if self.told else how or "no result came back")
        wrong = wrong or self._disagreement(code, how)
        outcome = "timed out" if ended else "errored" if wrong else "failed" if failed else "passed"
        words = wrong or (f"{failed} of {len(self.parts)} failed" if failed else "")
        told = {"outcome": outcome, "message": words, "parts": self.parts, "seconds": seconds}
        self._end_all(told, [""])

    def _end_all(self, verdict: Message, names: Sequence[str] | None = None) -> None:
        if names is None:
            names = [test.name for test in self.tests]
        for name in names:
            address = f"{self.file.path}#{name}" if name else self.file.path
            self.channel.hold({"type": "started", "address": address})
            text = self.output.decode("utf-8", "replace")
            said = {"type": "output", "address": address, "stream": "both", "text": text}
            self.channel.hold(said)
            self.channel.send({"type": "finished", "address": address, "seconds": 0.0, **verdict})


def _part(entry: Entry, name: str) -> Message:
    message = entry.message or entry.detail
    return {
        "name": name, "outcome": str(entry.outcome), "message": message,
        "seconds": entry.seconds, "line": entry.line,
    }  # fmt: skip


def _kill(process: subprocess.Popen[bytes]) -> None:
    """The launcher and all that it started."""
    try:
        os.killpg(process.pid, signal.SIGKILL)
    except (ProcessLookupError, PermissionError):
        pass


if __name__ == "__main__":
    main()
