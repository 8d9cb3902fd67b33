"""The written launchers: each is learnt from its two commands, and its runs are compared with the
instructions that its tests contain.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec
from benchmarks.launchers.runs import UNCLEAR, outcomes_of

FOLDER = Path(__file__).parents[2] / "tests" / "launchers"
LIMIT = "5s"
_WANTED = {"crash": "crashed", "hang": "timed out"}
_NAMES = {
    "words": {
        "tides": ["high water", "low water", "slack (at noon)"],
        "fees": ["adults pay", "children pay half"],
    },
    "identifiers": {"tides": ["high", "low", "slack"], "fees": ["adults", "children"]},
}


class Launcher(msgspec.Struct, frozen=True):
    """A launcher, and how its test files are written.

    In ``source``, ``@TESTS@`` are the tests of a file, and ``@FILE@`` and ``@File@`` its name. In
    ``test``, ``@NAME@``, ``@Name@`` and ``@NUMBER@`` are a test's own, ``@BODY@`` is one of
    ``bodies``, and ``@TAG@`` is ``tag`` for tests with one. ``address`` is the test in Wolfbane's
    words; all are in ``place``, if it is set. ``selects`` is False for launchers without a
    selection, where nothing can run after a crash or a hang. ``crash`` is the outcome of a test
    that crashes, if the launcher hides it.
    """

    programs: list[str]
    all: str
    one: str
    path: str
    test: str
    bodies: dict[str, str]
    files: dict[str, str] = {}
    source: str = "@TESTS@"
    names: str | dict[str, list[str]] = "words"
    address: str = "@NAME@"
    place: str = ""
    tag: str = ""
    select: str = "quick"
    answers: dict[str, Any] = {}
    prepare: list[str] = []
    edits: list[list[str]] = []
    selects: bool = True
    crash: str = "crashed"
    twins: bool = True

    def names_by_file(self) -> Mapping[str, list[str]]:
        return _NAMES[self.names] if isinstance(self.names, str) else self.names


class Told(msgspec.Struct):
    """A test and its instruction."""

    file: str
    name: str
    does: str
    number: int
    tagged: bool = False


def read_launchers() -> dict[str, Launcher]:
    """All launchers, by name."""
    result: dict[str, Launcher] = {}
    for file in sorted(FOLDER.glob("*.toml")):
        result |= msgspec.toml.decode(file.read_bytes(), type=dict[str, Launcher])
    return result


def missing(launcher: Launcher) -> str:
    """A program that the launcher needs and that is not installed; empty if there is none."""
    return next((name for name in launcher.programs if not shutil.which(name)), "")


class Written:
    """A launcher in a folder."""

    def __init__(self, launcher: Launcher, folder: Path) -> None:
        self.launcher, self.place = launcher, folder
        self.tests = [
            Told(file, name, "failed" if number == 2 else "passed", number, number == 4)
            for number, (file, name) in enumerate(
                ((f, n) for f, names in launcher.names_by_file().items() for n in names), 1
            )
        ]
        self.printed = ""

    def lay_out(self) -> None:
        """Write the launcher and its tests."""
        for path, text in self.launcher.files.items():
            self._write(path, text)
        self.write_tests()
        for command in self.launcher.prepare:
            subprocess.run(command, shell=True, cwd=self.place, check=True)

    def write_tests(self) -> None:
        """Write the test files again, with the current instructions."""
        for file in self.launcher.names_by_file():
            tests = "\n".join(self._test(t) for t in self.tests if t.file == file)
            source = self.launcher.source.replace("@TESTS@", tests)
            source = source.replace("@FILE@", file).replace("@File@", file.capitalize())
            self._write(self.path(file), source)

    def path(self, file: str) -> str:
        """The path of a test file."""
        return self.launcher.path.replace("@FILE@", file).replace("@File@", file.capitalize())

    def address(self, test: Told) -> str:
        """The test in Wolfbane's words."""
        name = self._filled(self.launcher.address, test)
        path = self.launcher.place or self.path(test.file)
        return f"{path}#{name}" if name else path

    def _test(self, test: Told) -> str:
        made = self.launcher.test.replace("@BODY@", self.launcher.bodies[test.does])
        made = made.replace("@TAG@", self.launcher.tag if test.tagged else "")
        return self._filled(made, test)

    def _filled(self, text: str, test: Told) -> str:
        camel = "".join(word.capitalize() for word in test.name.split())
        for mark, value in (
            ("@NAME@", test.name),
            ("@Name@", camel),
            ("@NUMBER@", str(test.number)),
            ("@FILE@", test.file),
            ("@File@", test.file.capitalize()),
        ):
            text = text.replace(mark, value)
        return text

    def _write(self, path: str, text: str) -> None:
        file = self.place / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text.lstrip("\n"), encoding="utf-8")
        if text.lstrip("\n").startswith("#!"):
            file.chmod(0o755)

    def learn(self) -> int:
        """Learn the bridge; returns the exit code of the command."""
        (self.place / "wolfbane.toml").write_text("", encoding="utf-8")
        first = self.tests[0]
        command = [
            sys.executable,
            "-m",
            "wolfbane",
            "bridge",
            "learn",
            "learned.toml",
            "--all",
            self.launcher.all,
            "--one",
            self._filled(self.launcher.one, first),
            "--yes",
        ]
        if self.launcher.answers:
            lines = [
                f"{key} = {msgspec.json.encode(value).decode()}\n"
                for key, value in self.launcher.answers.items()
            ]
            text = self._filled("".join(lines), first)
            (self.place / "answers.toml").write_text(text, encoding="utf-8")
            command += ["--answers", "answers.toml"]
        done = subprocess.run(
            command, cwd=self.place, capture_output=True, text=True, check=False, timeout=600
        )
        self.printed += done.stdout + done.stderr
        bridge = self.place / "learned.toml"
        if bridge.exists():
            text = bridge.read_text(encoding="utf-8")
            for old, new in self.launcher.edits:
                assert old in text, f"{old} is not in the learned bridge"
                text = text.replace(old, new)
            bridge.write_text(text, encoding="utf-8")
        return done.returncode

    def differences(self, *, brief: bool = False) -> Iterator[str]:
        """How the runs differ from the instructions. ``brief``: only the runs for one failure."""
        yield from self._compared("whole", self.tests)
        for does in ("passed", "failed"):
            test = next(test for test in reversed(self.tests) if test.does == does)
            yield from self._compared("by name", [test], self.address(test))
        if brief:
            yield from self._planted("failed")
            return
        folder = self.launcher.place
        mine = [test for test in self.tests if folder or test.file == "fees"]
        yield from self._compared("by file", mine, folder or self.path("fees"))
        if self.launcher.tag:
            mine = [test for test in self.tests if test.tagged]
            yield from self._compared("by tag", mine, "--tag", self.launcher.select)
        for does in ("failed", "crash", "hang"):
            if does in self.launcher.bodies:
                yield from self._planted(does)
        if self.launcher.twins:
            yield from self._twins()

    def _planted(self, does: str) -> Iterator[str]:
        """One test that passed does this now."""
        test = self.tests[3]
        test.does = does
        self.write_tests()
        yield from self._compared(f"a planted {does}", self.tests)
        test.does = "passed"
        self.write_tests()

    def _twins(self) -> Iterator[str]:
        """The second file has a test with the name of one in the first, and the other outcome."""
        twin = Told("fees", self.tests[0].name, "failed", 6)
        self.tests.append(twin)
        self.write_tests()
        yield from self._compared("twins", self.tests, unclear={twin.name})
        self.tests.pop()
        self.write_tests()

    def _compared(
        self, how: str, tests: list[Told], *asked: str, unclear: set[str] = frozenset()
    ) -> Iterator[str]:
        results, printed = outcomes_of(self.place, LIMIT, asked)
        lost = "" if self.launcher.selects else any(t.does in _WANTED for t in tests)
        for test in tests:
            result = results.pop(self.address(test), None)
            wanted = _WANTED.get(test.does, test.does)
            if test.does == "crash":
                wanted = self.launcher.crash
            got = result["outcome"] if result else "no result"
            if got == wanted:
                continue
            if got == "errored" and test.name in unclear and UNCLEAR in result["message"]:
                continue
            if lost and got in ("crashed", "errored", "timed out"):
                continue
            message = result["message"] if result else ""
            yield f"{how}: {self.address(test)} is {got} instead of {wanted}: {message[:200]}"
            self.printed += printed
        if lost_file := next((self.path(t.file) for t in tests if t.does in _WANTED), ""):
            results.pop(lost_file, None)  # the launcher may report the file as a whole, too
        yield from (
            f"{how}: {more} was not asked for: {r['outcome']}" for more, r in results.items()
        )
