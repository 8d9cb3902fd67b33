"""Draws a launcher with its tests, and the bridge that describes it."""

from __future__ import annotations

import json
import random
import shutil
from pathlib import Path
from typing import Any

import msgspec

LAUNCHER = Path(__file__).with_name("launcher.py")
_FOLDERS = ("north", "south", "north/inner")
_NAMES = (
    "high water",
    "low",
    "it's half full",
    "berth [2]",
    "a.b*c",
    "depth > 4",
    "étale",
    "neap",
    "50 %",
    "slack (late)",
    "fog_1",
    "fog_10",
)
_GROUPS = ("", "", "mast", "quay")
_FOUND = r'^\s*check "(?P<name>[^"]*)"'
_SECRETS = ("made in a loop", "inherited")
"""Names of tests that no source shows."""


class Drawn(msgspec.Struct, frozen=True):
    """A drawn launcher: its tests in the order in which it runs them, and its plan."""

    tests: list[dict[str, str]]
    plan: dict[str, Any]
    bridge: str
    per: str
    limits_files: bool
    """Whether a start runs only the tests of its files."""

    @property
    def found(self) -> list[dict[str, str]]:
        """The tests that the sources show."""
        return [test for test in self.tests if test["name"] not in _SECRETS]

    @property
    def unseen(self) -> list[dict[str, str]]:
        """The tests that only the launcher knows."""
        return [test for test in self.tests if test["name"] in _SECRETS]

    @property
    def in_words(self) -> str:
        """The choices of the draw."""
        plan = {key: value for key, value in self.plan.items() if key not in ("tests", "files")}
        return f"per {self.per}, {json.dumps(plan)}"


def draw(rng: random.Random, path: Path) -> Drawn:
    """Draw a launcher, and write its workspace to a folder."""
    files = [
        f"checks/{folder}/{name}.spec"
        for folder in rng.sample(_FOLDERS, rng.randint(1, 3))
        for name in rng.sample(("tides", "boats"), rng.randint(1, 2))
    ]
    tests = _tests(rng, files)
    per = rng.choice(("test", "file", "suite", "suite", "batch"))
    plan = _plan(rng, per)
    plan.update(tests=tests, files=files)
    if rng.random() < 0.4:
        rng.shuffle(tests)
        tests.sort(key=lambda test: files.index(test["file"]) if plan["section"] else 0)
    where = _where(rng, per)
    drawn = Drawn(tests, plan, bridge_of(plan, per, where), per, where not in ("", "{folder}"))
    write(drawn, path)
    return drawn


def _tests(rng: random.Random, files: list[str]) -> list[dict[str, str]]:
    tests = []
    for path in files:
        seen = set()
        for name in rng.sample(_NAMES, rng.randint(1, 5)):
            group = rng.choice(_GROUPS)
            seen.add((group, name))
            tests.append({"file": path, "group": group, "name": name, "does": "passed"})
        tests.sort(key=lambda test: (files.index(test["file"]), test["group"]))
    for test in tests:
        test["does"] = rng.choices(("passed", "failed", "skipped"), (7, 2, 1))[0]
    if rng.random() < 0.3:
        rng.choice(tests)["does"] = "crash"
    if rng.random() < 0.08:
        rng.choice(tests)["does"] = "hang"
    for name in _SECRETS if rng.random() < 0.3 else ():
        does = rng.choice(("passed", "failed"))
        path = rng.choice(files)
        at = max(n for n, test in enumerate(tests) if test["file"] == path) + 1
        tests.insert(at, {"file": path, "group": "", "name": name, "does": does})
    return tests


def _plan(rng: random.Random, per: str) -> dict[str, Any]:
    form = rng.choice(("events", "lines", "lines", "tap", "xunit"))
    printed = form in ("events", "lines") and rng.random() < 0.5
    return {
        "format": form,
        "printed": printed,
        "late": rng.random() < 0.3,
        "mode": rng.choice("aw") if form in ("events", "lines") else "w",
        "fixed": not printed and rng.random() < 0.3,
        "began": form == "lines" and printed and rng.random() < 0.5,
        "section": rng.choice(("", "", "before", "after")) if form == "lines" else "",
        "tells_file": form in ("events", "lines", "xunit") and rng.random() < 0.4,
        "colours": rng.random() < 0.3,
        "failed": rng.choice((1, 1, 3, 0)),
        "call": rng.choice(("{name}", "{name}", "{stem}/{name}")),
        "how": rng.choice(("each", "joined", "pattern", "list")),
    }


def _where(rng: random.Random, per: str) -> str:
    """The argument that limits a start to files."""
    choices = {
        "test": ("", "{file}"),
        "file": ("", "{file}", "{files}"),
        "batch": ("{files}",),
        "suite": ("", "", "{files}", "{folder}"),
    }
    return rng.choice(choices[per])


def bridge_of(plan: dict[str, Any], per: str, where: str) -> str:
    """The bridge for a plan. ``where`` is the argument that limits a start to files."""
    option = {"each": "--only", "joined": "--joined", "pattern": "--pattern", "list": "--list"}
    how = plan["how"]
    names = '"{names}"' if how == "each" else f'["{option[how]}", "{{names}}"]'
    report = ""
    if not plan["printed"]:
        report = "told.txt" if plan["fixed"] else "{scratch}/told.txt"
    to = f', "--to", "{"told.txt" if plan["fixed"] else "{report}"}"' if report else ""
    given = {"{name}": "{group:.}{name}", "{stem}/{name}": "{stem}/{group:.}{name}"}[plan["call"]]
    limit = f", {json.dumps(where)}" if where else ""
    lines = [
        'about = "a drawn launcher"',
        "[find]",
        'files = ["*.spec"]',
        f"lines = {{ test = '{_FOUND}', group = '^on (?P<name>\\w+)' }}",
        "[run]",
        f'command = ["python3", "launcher.py", {names}{to}{limit}]',
        f'per = "{per}"',
        f"failed = [{plan['failed']}]",
        'start_timeout = "2s"',
        "[run.names]",
        f'how = "{how}"',
        f'name = "{given}"',
        *(['option = "--only"'] if how == "each" else []),
        *(['separator = ";;"'] if how == "joined" else []),
        *(['dialect = "python"'] if how == "pattern" else []),
        "[read]",
        f'format = "{plan["format"]}"',
        f'report = "{report}"',
        'test = "{group:.}{name}"',
    ]
    if plan["format"] == "lines":
        at = r"(?: at (?P<file>\S+\.spec))?$" if plan["tells_file"] else "$"
        for key, word in (("passed", "fine"), ("failed", "BAD"), ("skipped", "left")):
            lines.append(f"{key} = '^  {word}: (?P<name>.*?){at}'")
    if plan["section"]:
        key = "section" if plan["section"] == "before" else "section_end"
        mark = "==" if plan["section"] == "before" else "--"
        lines.append(f"{key} = '^{mark} (?P<file>.*)'")
    if plan["began"]:
        lines.append("began = '^RUN (?P<name>.*)'")
    return "\n".join(lines) + "\n"


def write(drawn: Drawn, folder: Path) -> None:
    """Write the workspace of a launcher."""
    shutil.copy(LAUNCHER, folder / "launcher.py")
    (folder / "plan.json").write_text(json.dumps(drawn.plan), encoding="utf-8")
    (folder / "bridge.toml").write_text(drawn.bridge, encoding="utf-8")
    (folder / "wolfbane.toml").write_text(
        '[workspace]\nname = "drawn"\n[[suite]]\nname = "drawn"\nkind = "bridge"\n'
        'paths = ["checks"]\nbridge = "bridge.toml"\n',
        encoding="utf-8",
    )
    for path in drawn.plan["files"]:
        mine = [test for test in drawn.found if test["file"] == path]
        mine.sort(key=lambda test: test["group"])
        text, group = "", ""
        for test in mine:
            if test["group"] != group:
                group = test["group"]
                text += f"on {group}\n"
            text += f'{"  " * bool(group)}check "{test["name"]}"\n'
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_text(text, encoding="utf-8")


def reported_name(test: dict[str, str]) -> str:
    """The name of a test in the report."""
    return f"{test['group']}.{test['name']}" if test["group"] else test["name"]
