"""Compiles the tests of a crate, and finds the source file of each compiled test."""

from __future__ import annotations

import contextlib
import json
import os
import re
import subprocess
import sys
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from wolfbane.kinds.cargo.runner.crate_sources import file_of, line_of, modules_of

NESTED = " / "
_MOST_LINES = 60
_THREAD = re.compile(r"(thread '[^']*') \(\d+\)")
"""The number of a thread would make equal reasons differ."""
_LISTED = re.compile(r"^(?P<name>.+): (?P<what>test|benchmark)$", re.M)
_DOC = re.compile(r"^(?P<file>.+?) - (?P<item>.*?)\s*\(line (?P<line>\d+)\)")


@dataclass(frozen=True)
class Program:
    """A compiled test program: its place, its sources, and its start command."""

    path: str
    target: str
    is_bin: bool
    source: str
    package: str
    harness: bool


@dataclass(frozen=True)
class Compiled:
    """One test with its name in the compiled program or in the documentation tool."""

    name: str
    given: str
    program: Program | None
    line: int = 0
    ignored: bool = False


@dataclass
class Crate:
    """The compiled result of a manifest. Files are absolute paths.

    ``broken`` is the reason if nothing was compiled; ``blocked``: compiling was not allowed.
    """

    root: str
    programs: list[Program] = field(default_factory=list)
    errors: dict[str, dict[str, Any]] = field(default_factory=dict)
    broken: str = ""
    blocked: bool = False
    tests: dict[str, list[Compiled]] = field(default_factory=dict)
    docs: list[str] = field(default_factory=list)


class Toolchain:
    """The commands of one suite's toolchain."""

    def __init__(self, program: str, manifest: str, options: Sequence[str], kept: Path) -> None:
        """``kept`` is a file that stores the last build, for runs that compile nothing."""
        self._program, self._manifest, self._options = program, manifest, list(options)
        self._kept = kept

    def command(self, *arguments: str) -> list[str]:
        """``test`` with the suite's own options."""
        options = ["--manifest-path", self._manifest]
        return [self._program, "test", *options, *self._options, *arguments]

    def compile(self) -> Crate:
        """Compile every test, and list those of each program and of the documentation."""
        crate = Crate(self._workspace())
        command = self.command("--no-run", "--message-format=json")
        # A build script that panics says why; a backtrace of it hides that.
        plain = {**os.environ, "RUST_BACKTRACE": "0"}
        process = subprocess.run(command, env=plain, capture_output=True, text=True, check=False)
        sys.stderr.write(process.stderr)
        messages = [json.loads(line) for line in process.stdout.splitlines()]
        for message in messages:
            self._message(crate, message)
        if process.returncode:
            crate.broken = next((error["message"] for error in crate.errors.values()), "")
            if not crate.broken:
                crate.broken = reason_of(process.stderr, self._program)
            return crate
        self._list_tests(crate)
        command = self.command("--doc", "--", "--list", "--format", "terse")
        listed = subprocess.run(
            command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, check=False
        )
        docs = [m["name"] for m in _LISTED.finditer(listed.stdout) if m["what"] == "test"]
        self._place_docs(crate, docs)
        artifacts = [m for m in messages if m["reason"] == "compiler-artifact" and m["executable"]]
        with contextlib.suppress(OSError):  # without it, a later run has to compile
            self._kept.parent.mkdir(parents=True, exist_ok=True)
            self._kept.write_text(json.dumps({"artifacts": artifacts, "docs": docs}))
        return crate

    def reuse(self) -> Crate | None:
        """The last build, without compiling; None if it no longer exists."""
        try:
            known = json.loads(self._kept.read_text())
        except (OSError, ValueError):
            return None
        crate = Crate(self._workspace())
        for message in known["artifacts"]:
            self._message(crate, message)
        if not all(os.path.exists(program.path) for program in crate.programs):
            return None
        self._list_tests(crate)
        self._place_docs(crate, known["docs"])
        return crate

    @staticmethod
    def _list_tests(crate: Crate) -> None:
        for program in crate.programs:
            for test in _tests_of(program):
                file = file_of(program.source, test.given)
                placed = replace(test, line=line_of(file, test.given))
                crate.tests.setdefault(file, []).append(placed)

    def _workspace(self) -> str:
        command = [self._program, "locate-project", "--workspace", "--message-format", "plain"]
        metadata = subprocess.run(
            [*command, "--manifest-path", self._manifest],
            stdout=subprocess.PIPE,
            text=True,
            check=False,
        )
        return os.path.dirname(metadata.stdout.strip() or self._manifest)

    @staticmethod
    def _message(crate: Crate, message: Mapping[str, Any]) -> None:
        if message["reason"] == "compiler-artifact":
            target = message["target"]
            if message["executable"] and message["profile"]["test"]:
                crate.programs.append(
                    Program(
                        path=message["executable"],
                        target=target["name"],
                        is_bin="bin" in target["kind"],
                        source=target["src_path"],
                        package=os.path.dirname(message["manifest_path"]),
                        harness=_has_harness(message["manifest_path"], target["name"]),
                    )
                )
        elif message["reason"] == "compiler-message" and message["message"]["level"] == "error":
            diagnostic = message["message"]
            for span in (span for span in diagnostic["spans"] if span["is_primary"]):
                file = os.path.join(crate.root, span["file_name"])
                frame = {"file": file, "line": span["line_start"], "function": ""}
                problem = {
                    "outcome": "errored",
                    "message": diagnostic["message"],
                    "frames": [frame],
                }
                known = crate.errors.setdefault(file, {**problem, "trace": ""})
                known["trace"] += diagnostic["rendered"] + "\n"

    @staticmethod
    def _place_docs(crate: Crate, docs: list[str]) -> None:
        crate.docs = docs
        for given in sorted(crate.docs, key=doc_line):
            match = _DOC.match(given)
            if match is not None:
                file = os.path.normpath(os.path.join(crate.root, match["file"]))
                tests = crate.tests.setdefault(file, [])
                name = _distinct(f"doc{NESTED}{match['item'] or '(module)'}", tests)
                tests.append(
                    Compiled(name=name, given=given, program=None, line=int(match["line"]))
                )


def reason_of(printed: str, program: str) -> str:
    """The toolchain's own reason: from its first error on, with the causes."""
    lines = printed.splitlines()
    first = next((n for n, line in enumerate(lines) if line.startswith("error")), None)
    if first is not None:
        kept = lines[first:]
    else:
        kept = lines[-_MOST_LINES:]
    text = _THREAD.sub(r"\1", "\n".join(kept[:_MOST_LINES])).strip()
    return text.removeprefix("error: ") or f"{program} could not compile the crate"


def doc_line(given: str) -> int:
    """The line in a documentation test's name."""
    match = _DOC.match(given)
    if match:
        return int(match["line"])
    return 0


def doc_filters(chosen: Sequence[str], known: Sequence[str]) -> list[str] | None:
    """Filters that select exactly these documentation tests among all known ones.

    The documentation tool splits its filters at spaces, and every name contains spaces. So tests
    are selected by ``LINE)``, and additional matches are skipped by line or file. None: not
    possible.
    """
    lines = {f"{doc_line(name)})" for name in chosen}
    picked = [name for name in known if any(line in name for line in lines)]
    files = {name.partition(" - ")[0] for name in chosen}
    skips = set()
    for name in set(picked) - set(chosen):
        file = name.partition(" - ")[0]
        skips.add(f"{doc_line(name)})" if file in files else file)
    left = {name for name in picked if not any(skip in name for skip in skips)}
    if left != set(chosen):
        return None
    return [*sorted(lines), *(word for skip in sorted(skips) for word in ("--skip", skip))]


def environment(program: Program) -> dict[str, str]:
    """The variables that the toolchain itself sets when it starts a test program."""
    with open(os.path.join(program.package, "Cargo.toml"), "rb") as file:
        package = tomllib.load(file).get("package", {})
    name, version = str(package.get("name", "")), package.get("version", "")
    version = version if isinstance(version, str) else ""
    added = {"CARGO_MANIFEST_DIR": program.package, "CARGO_PKG_NAME": name}
    return {**os.environ, **added, "CARGO_PKG_VERSION": version}


def _tests_of(program: Program) -> Iterator[Compiled]:
    if not program.harness:
        yield Compiled("", "", program)
        return
    names = _names(program)
    ignored = set(_names(program, "--ignored"))
    mark = ""
    if program.is_bin:
        mark = f" (bin {program.target})"
    for given in names:
        inside = given.split("::")[len(modules_of(program.source, given)) :]
        yield Compiled(NESTED.join(inside) + mark, given, program, ignored=given in ignored)


def _names(program: Program, *more: str) -> list[str]:
    listed = subprocess.run(
        [program.path, "--list", "--format", "terse", *more],
        cwd=program.package,
        stdout=subprocess.PIPE,
        text=True,
        check=False,
    )
    return [m["name"] for m in _LISTED.finditer(listed.stdout) if m["what"] == "test"]


def _has_harness(manifest: str, target: str) -> bool:
    with open(manifest, "rb") as file:
        table = tomllib.load(file)
    named = [table.get("lib", {}), *table.get("test", []), *table.get("bin", [])]
    return all(one.get("harness", True) for one in named if one.get("name") == target)


def _distinct(name: str, tests: Sequence[Compiled]) -> str:
    taken = {test.name for test in tests}
    number, distinct = 1, name
    while distinct in taken:
        number += 1
        distinct = f"{name} ({number})"
    return distinct
