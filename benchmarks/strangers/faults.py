"""Break one source line of a tree at random: the tests that fail must be the same ones, and they
must be among those that ``--changed`` selects.
"""

from __future__ import annotations

import ast
import random
import re
import subprocess
from pathlib import Path

from benchmarks.strangers.fetching import call, commit
from benchmarks.strangers.own import Outcomes, own_outcomes
from benchmarks.strangers.runs import differences, our_outcomes
from benchmarks.strangers.tables import Tree

_BAD = ("failed", "errored")
_NO_SOURCES = re.compile(
    r"(^|/)(x?t|tests?|docs?|examples?|bench\w*|build|vendor|inc|demo)/|(^|[/_.-])tests?[_.]|"
    r"setup\.py|(^|/)conf|_test\.|eslint"
)
_FAULTS = {
    ".py": 'raise RuntimeError("planted")',
    ".js": 'throw new Error("planted");',
    ".mjs": 'throw new Error("planted");',
    ".pm": 'die "planted";',
    ".rs": 'panic!("planted");',
}
_STATEMENT = re.compile(
    r"^(\s+)(return\b|\w+\s*=[^=]|let\b|const\b|my\b|if\b|for\b|throw\b|raise\b)"
)
_TRIES = 50


def plant(folder: Path, draw: random.Random) -> str:
    """Break a random line of a source, and commit it; returns its place, ``FILE:LINE``.

    Raises RuntimeError if no line can be broken.
    """
    tracked = call("git", "ls-files", cwd=folder).splitlines()
    sources = [
        path
        for path in tracked
        if Path(path).suffix in _FAULTS and not _NO_SOURCES.search(path.lower())
    ]
    lines = [
        (path, number)
        for path in sources
        for number, line in enumerate((folder / path).read_text("utf-8", "replace").splitlines())
        if _STATEMENT.match(line)
    ]
    for path, number in draw.sample(lines, min(_TRIES, len(lines))):
        file = folder / path
        whole = file.read_bytes()
        text = whole.decode("utf-8", "replace").splitlines(keepends=True)
        indent = re.match(r"\s*", text[number])[0]  # type: ignore[index]
        text.insert(number, f"{indent}{_FAULTS[file.suffix]}\n")
        file.write_text("".join(text), "utf-8")
        if _is_valid(file, folder):
            commit(folder, "A fault")
            return f"{path}:{number + 1}"
        file.write_bytes(whole)
    raise RuntimeError("no line can be broken")


def _is_valid(file: Path, folder: Path) -> bool:
    """Whether the runtime can still read a source."""
    if file.suffix == ".py":
        try:
            ast.parse(file.read_bytes())
        except (SyntaxError, ValueError):
            return False
        return True
    commands = {
        ".js": ["node", "--check", str(file)],
        ".mjs": ["node", "--check", str(file)],
        ".pm": ["perl", "-Ilib", "-c", str(file)],
        ".rs": ["cargo", "check", "--offline"],
    }
    done = subprocess.run(commands[file.suffix], cwd=folder, capture_output=True, check=False)
    return done.returncode == 0


def compare_fault(kind: str, tree: Tree, folder: Path, before: Outcomes) -> tuple[int, list[str]]:
    """The number of tests that a fault breaks by the runtime's own runner, and the differences:
    other outcomes here, and broken tests that ``--changed`` does not select.
    """
    own = own_outcomes(kind, tree, folder)
    result = differences(own, our_outcomes(folder, kind, ["-j2"]))
    broken = {key for key in own - before if key[2] in _BAD}
    if broken:
        chosen = our_outcomes(folder, kind, ["-j2", "--changed", "HEAD~1"])
        files = {file for file, _, _ in chosen}
        names = {(file, name) for file, name, _ in chosen} | {("", name) for _, name, _ in chosen}
        for file, name, outcome in sorted(broken):
            is_chosen = file in files if kind == "tap" or not name else (file, name) in names
            if not is_chosen:
                result.append(f"{file}#{name}: {outcome}, and --changed HEAD~1 does not select it")
    return len(broken), result


def unplant(folder: Path) -> None:
    """Restore the tree as it was published."""
    call("git", "reset", "--quiet", "--hard", "HEAD~1", cwd=folder)
