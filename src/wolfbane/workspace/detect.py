"""Work out suites from the files of a folder, for a workspace without settings."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

from wolfbane.workspace.settings import Settings, Suite
from wolfbane.workspace.vocabulary import SETTINGS_NAME

_NEVER = {"__pycache__", "node_modules", "build", "dist"}
_PYTHON_TEST = re.compile(rb"^\s*class\s+\w+\(.*\):|^(?:async )?def test_|load_tests", re.M)


_NODE_TEST = re.compile(rb"""(?:from|require\()\s*['"]node:test['"]""")


def detect(root: Path) -> Settings:
    """Settings with a suite for each kind in each folder at the top that holds its tests."""
    found: dict[tuple[str, str], list[str]] = {}
    for kind, file in test_files(root):
        top = file.partition("/")[0] if "/" in file else "."
        if kind == "cargo":
            top = file.rpartition("/")[0] or "."
            if any(_is_inside(top, other) for other_kind, other in found if other_kind == kind):
                continue  # a part of the crate or workspace around it
        found.setdefault((kind, top), []).append(file)
    suites = []
    used: set[str] = set()
    for kind, top in sorted(found, key=lambda item: (item[1], item[0])):
        name = kind if top == "." else re.sub(r"[^\w.-]", "-", top)
        name = f"{name}-{kind}" if name in used else name
        used.add(name)
        paths = _at_the_top(kind, found[(kind, top)]) if top == "." else [top]
        suites.append(Suite(name=name, kind=kind, paths=paths))  # type: ignore[arg-type]
    return Settings(suite=suites)


def test_files(root: Path) -> Iterator[tuple[str, str]]:
    """Every file that looks like one with tests, with its kind; of crates the manifest."""
    for file in _files(root):
        if kind := _kind_of(root, file):
            yield kind, file


def settings_text(root: Path, settings: Settings) -> str:
    """A commented ``wolfbane.toml`` for what was detected."""
    lines = [
        f"# {SETTINGS_NAME}: which suites there are here, and how they are run.",
        "",
        "[workspace]",
        f'name = "{root.name}"',
        '# leave_out = "tag:wip"       # kept out of every run until --everything',
        '# timeout = "2m"              # for each test',
        '# results = ".wolfbane"       # where runs are recorded',
    ]
    for suite in settings.suite:
        paths = ", ".join(f'"{path}"' for path in suite.paths)
        lines += ["", "[[suite]]", f'name = "{suite.name}"', f'kind = "{suite.kind}"']
        lines += [f"paths = [{paths}]", '# tags = ["unit"]             # on each of its tests']
        lines += _hints(suite.kind)
    if not settings.suite:
        lines += ["", "# No test was found here. A suite looks like this:", "#"]
        lines += ["# [[suite]]", '# name = "tides"', '# kind = "python"', '# paths = ["tests"]']
    lines += ["", "# [[tag]]                      # a tag on whatever an expression matches"]
    lines += ['# name = "slow"', '# match = "file:**/pages/**"', ""]
    return "\n".join(lines)


def _hints(kind: str) -> list[str]:
    if kind == "python":
        return [
            '# python = ".venv/bin/python" # the interpreter that runs it',
            '# import_path = ["src"]       # put before everything else',
        ]
    return {
        "tap": ['# interpreters = { ".t" = ["perl", "-Ilib"] }'],
        "node": ['# options = ["--import", "./loader.mjs"]', "# globals = true  # describe and it"],
        "cargo": ['# options = ["--all-features"]'],
        "scenario": ['# steps = ["features/steps"]     # default: the folder named steps there'],
    }[kind]


def _at_the_top(kind: str, files: list[str]) -> list[str]:
    """Paths of a suite whose files lie in the workspace's own folder."""
    globs = {"python": ["test*.py"], "tap": ["*.t"], "scenario": ["*.feature"], "cargo": ["."]}
    return globs.get(kind, files)


def _is_inside(folder: str, other: str) -> bool:
    return other in (".", folder) or folder.startswith(f"{other}/")


def _kind_of(root: Path, file: str) -> str:
    name = file.rpartition("/")[2]
    if name.endswith(".t"):
        return "tap"
    if name.endswith(".feature"):
        return "scenario"
    if name == "Cargo.toml":
        return "cargo"
    if name.endswith(".py") and name.startswith("test"):
        return "python" if _holds(root / file, _PYTHON_TEST) else ""
    if name.endswith((".js", ".mjs", ".cjs")):
        return "node" if _holds(root / file, _NODE_TEST) else ""
    return ""


def _holds(path: Path, pattern: re.Pattern[bytes]) -> bool:
    try:
        return pattern.search(path.read_bytes()) is not None
    except OSError:
        return False


def _files(root: Path) -> list[str]:
    found = []
    for folder, folders, names in os.walk(root):
        if "pyvenv.cfg" in names or "CACHEDIR.TAG" in names:
            folders.clear()
            continue
        folders[:] = sorted(f for f in folders if not f.startswith(".") and f not in _NEVER)
        inside = Path(folder).relative_to(root).as_posix()
        found += [name if inside == "." else f"{inside}/{name}" for name in sorted(names)]
    return found
