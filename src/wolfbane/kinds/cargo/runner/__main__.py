"""The worker for suites of kind ``cargo``. It compiles the crate, then runs the test programs.

Runs under Wolfbane's own interpreter.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.kinds.cargo.runner.crate_sources import takes_a_lock
from wolfbane.kinds.cargo.runner.crates import (
    Compiled,
    Crate,
    Program,
    Toolchain,
    doc_filters,
    environment,
)
from wolfbane.kinds.cargo.runner.libtest import LibtestReader, TestEnding, failure, verdict
from wolfbane.kinds.worker.channel import Channel, Message, connect
from wolfbane.kinds.worker.heartbeat import heartbeat

_NOTHING = "the crate is not compiled, and --no-build prevents compiling"
_COMPILES = "documentation tests must be compiled to run, but --no-build prevents compiling"


def main() -> None:
    """Serve requests until Wolfbane closes the channel."""
    channel, options, requests = connect(f"cargo, by Python {sys.version.split()[0]}")
    worker = _CargoWorker(channel, options)
    for request in requests:
        if request["type"] == "collect":
            for path in request["files"]:
                worker.collect(path)
        elif request["type"] == "run":
            worker.run(request["file"], request["names"])


class _CargoWorker:
    def __init__(self, channel: Channel, options: Message) -> None:
        self.channel = channel
        self.root: str = options["root"]
        self.ignored: bool = options["ignored"] == "run"
        self.no_build: bool = options["no_build"]
        kept = Path(options["results"], f"compiled-{options['suite']}.json")
        given = options["cargo"], options["manifest"], options["options"]
        self.toolchain = Toolchain(*given, kept)
        self._crate: Crate | None = None

    @property
    def crate(self) -> Crate:
        """The compiled crate: compiled at the first request, if that is allowed."""
        if self._crate is None and self.no_build:
            reused = self.toolchain.reuse()
            note = "uses the test programs of the last build (--no-build)"
            self.channel.send({"type": "progress", "text": note if reused else _NOTHING})
            self._crate = reused or Crate("", broken=_NOTHING, blocked=True)
        elif self._crate is None:
            with heartbeat(self.channel, "cargo test --no-run"):
                self._crate = self.toolchain.compile()
        return self._crate

    def collect(self, path: str) -> None:
        """Report the compiled tests that come from a source file."""
        self.channel.send({"type": "collecting", "file": path})
        file = os.path.join(self.root, path)
        crate = self.crate
        done: Message = {"type": "collected", "file": path, "divisible": not takes_a_lock(file)}
        if crate.blocked:
            done.update(outcome="blocked", message=crate.broken)
        elif crate.broken:
            elsewhere = next(iter(crate.errors.values()), None)
            source = ""
            if elsewhere:
                source = f" ({self.location(elsewhere['frames'][0])})"
            message = f"the crate does not compile: {crate.broken}{source}"
            done.update(crate.errors.get(file, {"outcome": "errored", "message": message}))
        for test in crate.tests.get(file, ()):
            entry: Message = {"type": "test", "address": self.address(path, test.name)}
            if test.line:
                entry["line"] = test.line
            if test.ignored:
                entry["tags"] = ["ignored"]
            if test.program is None:
                entry["group"] = "doc"  # run in one go: its tool takes long to start
            self.channel.hold(entry)
        self.channel.send(done)

    def run(self, path: str, names: Sequence[str]) -> None:
        """Run tests of one file, program by program, then those of its documentation."""
        crate = self.crate
        known = {t.name: t for t in crate.tests.get(os.path.join(self.root, path), ())}
        chosen = [known[name] for name in names if name in known]
        programs = dict.fromkeys(test.program for test in chosen)
        for program in programs:
            tests = [test for test in chosen if test.program is program]
            if program is None and self.no_build:
                for test in tests:
                    problem = {"outcome": "blocked", "message": _COMPILES}
                    self.finish(self.address(path, test.name), problem, 0.0)
            elif program is None:
                self.document(path, tests)
            elif program.harness:
                _Course(self, path, program, tests=tests).run()
            else:
                self.whole(path, program)
        self.channel.send({"type": "ran", "file": path})

    def whole(self, path: str, program: Program) -> None:
        """A program with its own main function is one test: its exit code is the outcome."""
        self.channel.send({"type": "started", "address": path})
        began = time.perf_counter()
        process = subprocess.run(
            [program.path],
            cwd=program.package,
            env=environment(program),
            text=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            errors="replace",
            check=False,
        )
        result: Message = {"outcome": "passed", "output": process.stdout}
        if process.returncode:
            ended = how_it_ended(process.returncode)
            result["outcome"] = "crashed" if process.returncode < 0 else "failed"
            result["message"] = f"the test program ended with {ended}"
        self.finish(path, result, time.perf_counter() - began)

    def document(self, path: str, tests: Sequence[Compiled]) -> None:
        """Run documentation tests: all in one call if filters can select exactly these."""
        given = [test.given for test in tests]
        arguments = doc_filters(given, self.crate.docs)
        groups = (
            [(arguments, tests)]
            if arguments is not None
            else [(doc_filters([test.given], self.crate.docs), [test]) for test in tests]
        )
        for filters, group in groups:
            if filters is None:
                for test in group:
                    message = "the toolchain cannot run this test alone"
                    problem = {"outcome": "blocked", "message": message}
                    self.finish(self.address(path, test.name), problem, 0.0)
            else:
                self.run_documentation(path, filters, group)

    def run_documentation(
        self, path: str, filters: Sequence[str], tests: Sequence[Compiled]
    ) -> None:
        """Their details appear at the very end, so failures are reported only then."""
        by_given = {test.given: test for test in tests}
        failed: list[tuple[TestEnding, float]] = []
        clock = [time.perf_counter()]

        def ended(test: TestEnding) -> None:
            now = time.perf_counter()
            seconds, clock[0] = now - clock[0], now
            if test.status == "FAILED":
                failed.append((test, seconds))
                return
            address = self.address(path, by_given[test.name].name)
            self.channel.hold({"type": "started", "address": address})
            self.finish(address, verdict(test), seconds)

        reader = LibtestReader(by_given, lambda name: None, ended)
        if self.ignored:
            ignored = ["--include-ignored"]
        else:
            ignored = []
        command = self.toolchain.command("--doc", "--", "--test-threads=1", *ignored, *filters)
        self.follow(command, self.crate.root, dict(os.environ), reader=reader)
        reader.finish()
        for test, seconds in failed:
            compiled = by_given[test.name]
            address = self.address(path, compiled.name)
            text = reader.details.get(test.name, "")
            self.channel.hold({"type": "started", "address": address})
            problem = documentation_failure(text, test.name)
            frame = {"file": os.path.join(self.root, path), "line": compiled.line, "function": ""}
            self.finish(address, {**problem, "frames": [frame]}, seconds)

    def follow(
        self, command: Sequence[str], folder: str, variables: dict[str, str], reader: LibtestReader
    ) -> int:
        """Run a program and read its output immediately; returns its exit code."""
        with subprocess.Popen(
            command,
            cwd=folder,
            env=variables,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
        ) as process:
            assert process.stdout is not None
            while chunk := os.read(process.stdout.fileno(), 1 << 16):
                reader.feed(chunk.decode("utf-8", "replace"))
        return process.returncode

    def finish(self, address: str, result: Message, seconds: float) -> None:
        """Report a test's end, after its output."""
        output = result.pop("output", "")
        if output:
            kept = {"type": "output", "address": address, "stream": "both", "text": output}
            self.channel.hold(kept)
        message = {"type": "finished", "address": address, "seconds": round(seconds, 6)}
        self.channel.send({**message, **result})

    def location(self, frame: Message) -> str:
        """A frame as ``FILE:LINE``, for messages."""
        return f"{os.path.relpath(frame['file'], self.root)}:{frame['line']}"

    @staticmethod
    def address(path: str, name: str) -> str:
        """A test's address; the file's own if the whole file is the test."""
        return f"{path}#{name}" if name else path


class _Course:
    """Tests of one program, in as many processes as needed: a crash affects only its test."""

    def __init__(
        self, worker: _CargoWorker, path: str, program: Program, tests: Sequence[Compiled]
    ) -> None:
        self.worker, self.path, self.program = worker, path, program
        self.left = {test.given: test for test in tests}
        self.began = 0.0

    def run(self) -> None:
        while self.left:
            before = len(self.left)
            if self.worker.ignored:
                ignored = ["--include-ignored"]
            else:
                ignored = []
            fixed = ["--exact", "--test-threads=1", "--nocapture", *ignored]
            reader = LibtestReader(self.left, self.start, self.end)
            command = [self.program.path, *fixed, *self.left]
            variables = environment(self.program)
            code = self.worker.follow(command, self.program.package, variables, reader=reader)
            printed = reader.finish()
            if reader.current:
                message = f"the test process ended: {how_it_ended(code)}"
                crashed = {"outcome": "crashed", "message": message, "output": printed}
                self.finish(reader.current, crashed)
            if len(self.left) == before:
                break

    def start(self, given: str) -> None:
        address = self.worker.address(self.path, self.left[given].name)
        self.worker.channel.send({"type": "started", "address": address})
        self.began = time.perf_counter()

    def end(self, test: TestEnding) -> None:
        self.finish(test.name, verdict(test))

    def finish(self, given: str, result: dict[str, Any]) -> None:
        seconds = time.perf_counter() - self.began
        address = self.worker.address(self.path, self.left.pop(given).name)
        for frame in result.get("frames", ()):
            frame["file"] = self.located(frame["file"])
        self.worker.finish(address, result, seconds)

    def located(self, file: str) -> str:
        """Panics name files relative to the workspace, backtraces relative to the package."""
        package, root = self.program.package, self.worker.crate.root
        for folder in (package, root) if file.startswith("./") else (root, package):
            path = os.path.normpath(os.path.join(folder, file))
            if os.path.exists(path):
                return path
        return file


def documentation_failure(text: str, name: str) -> Message:
    """The documentation tool's messages about a failed example."""
    if "Couldn't compile the test" in text:
        first = next((line for line in text.splitlines() if line.startswith("error")), "")
        message = f"the example does not compile: {first}"
        return {"outcome": "errored", "message": message, "trace": text}
    if "but it's marked `compile_fail`" in text:
        return {
            "outcome": "failed",
            "message": "the example compiles, although it is marked compile_fail",
        }
    _, _, printed = text.partition("stderr:\n")
    return failure(printed or text, name)


if __name__ == "__main__":
    main()
