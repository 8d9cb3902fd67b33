"""The workspace of a draw: suites of several kinds, and the outcome of each of their tests."""

from __future__ import annotations

import random
import shutil
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

FORMATS = ("xunit", "tap", "ctrf", "json", "jsonl", "html", "csv", "markdown")
SECRET = "heron'at & low=tide/4711"
SETTINGS = """
[workspace]
env = "local"

[param.token]
secret = true
export = "TOKEN"

[env.local]
token = { file = "token.txt" }
"""
_TESTS = {
    "passed": ("assert 1 + 1 == 2", "print('the tide is in')", "time.sleep(0.02)"),
    "failed": ("self.assertEqual(3, 4)", "print('low'); self.fail('low water')"),
    "errored": ("raise ValueError('no berth')",),
    "skipped": ("self.skipTest('at night')",),
}


@dataclass
class Scene:
    """What is in the folder. ``outcomes`` are those that each test may have.

    ``own`` are addresses whose results the fault may change; ``more``: it may add results.
    """

    folder: Path
    rng: random.Random
    settings: str = SETTINGS
    outcomes: dict[str, set[str]] = field(default_factory=dict)
    own: set[str] = field(default_factory=set)
    more: bool = False
    arguments: list[str] = field(default_factory=list)
    variables: dict[str, str] = field(default_factory=dict)
    limit: float = 60.0
    formats: list[str] = field(default_factory=list)
    """The formats of the reports that the run with the fault writes."""

    def file(self, path: str, text: str | bytes) -> None:
        """Write a file."""
        folder = self.folder / path
        folder.parent.mkdir(parents=True, exist_ok=True)
        folder.write_bytes(text.encode() if isinstance(text, str) else text)

    def suite(self, name: str, kind: str, more: str = "") -> None:
        """Name a suite in the settings; its files are in a folder of its name."""
        self.settings += (
            f'\n[[suite]]\nname = "{name}"\nkind = "{kind}"\npaths = ["{name}"]\n{more}'
        )

    def expect(self, address: str, *outcomes: str, own: bool = False) -> None:
        """A test, and how it may end; ``own``: it is the one that the fault is in."""
        self.outcomes[address] = set(outcomes)
        if own:
            self.own.add(address)

    def write(self) -> None:
        """Write the settings, and the secret's file."""
        self.file("token.txt", SECRET)
        self.file("wolfbane.toml", self.settings)


def make_scene(folder: Path, rng: random.Random, victim: Victim | None) -> Scene:
    """A workspace with Python tests and one or two suites of other kinds around a victim."""
    scene = Scene(folder, rng)
    scene.variables["FAULTS_DRAW"] = str(folder)
    count = rng.randint(2, 3)
    position = rng.randrange(count)
    for number in range(count):
        _python(scene, number, victim if number == position else None)
    scene.suite("tides", "python")
    others = [make for program, make in _OTHERS if shutil.which(program)]
    for make in rng.sample(others, rng.choice((0, 1, 1, 2))):
        make(scene)
    scene.arguments = ["-j", str(rng.randint(1, 3)), "--timeout", "5s"]
    scene.formats = rng.sample(FORMATS, 3)
    return scene


@dataclass(frozen=True)
class Victim:
    """A Python test with a fault in it, and how it may end."""

    name: str
    body: str
    outcomes: Sequence[str]


def _python(scene: Scene, number: int, victim: Victim | None) -> None:
    rng = scene.rng
    lines = [
        "import ctypes, gc, json, os, resource, signal, socket, subprocess, sys, tempfile",
        "import threading, time, unittest, warnings",
        f"class Tide{number}(unittest.TestCase):",
    ]
    count = rng.randint(2, 5)
    position = rng.randrange(count + 1)
    for test in range(count + 1):
        address = f"tides/test_{number}.py#Tide{number} / test_{test}"
        if victim and test == position:
            body = victim.body.replace("\n", "\n        ")
            scene.expect(address, *victim.outcomes, own=True)
        else:
            outcome = rng.choice(("passed", "passed", "passed", *_TESTS))
            body = rng.choice(_TESTS[outcome])
            scene.expect(address, outcome)
        lines += [f"    def test_{test}(self):", f"        {body}"]
    scene.file(f"tides/test_{number}.py", "\n".join(lines) + "\n")


def _tap(scene: Scene) -> None:
    scene.suite("gauges", "tap", 'interpreters = { ".t" = ["sh"] }\n')
    scene.settings = scene.settings.replace('paths = ["gauges"]', 'paths = ["gauges/*.t"]')
    for number in range(scene.rng.randint(1, 2)):
        bad = scene.rng.random() < 0.3
        last = "not ok 2 - ebb" if bad else "ok 2 - ebb"
        scene.file(f"gauges/g{number}.t", f"echo 1..2\necho 'ok 1 - flood'\necho '{last}'\n")
        scene.expect(f"gauges/g{number}.t", "failed" if bad else "passed")


def _node(scene: Scene) -> None:
    scene.suite("rules", "node")
    text = "import test from 'node:test';\nimport assert from 'node:assert';\n"
    for number in range(scene.rng.randint(1, 3)):
        bad = scene.rng.random() < 0.3
        text += f"test('rule {number}', () => assert.equal(1, {2 if bad else 1}));\n"
        scene.expect(f"rules/quay.test.mjs#rule {number}", "failed" if bad else "passed")
    scene.file("rules/quay.test.mjs", text)


def _scenario(scene: Scene) -> None:
    scene.suite("log", "scenario")
    scene.file("log/steps/quay.py", STEPS)
    text = "Feature: quay\n"
    for number in range(scene.rng.randint(1, 2)):
        bad = scene.rng.random() < 0.3
        text += f"  Scenario: berth {number}\n    Given berth {7 if bad else number} is free\n"
        scene.expect(f"log/quay.feature#berth {number}", "failed" if bad else "passed")
    scene.file("log/quay.feature", text)


def _program(scene: Scene) -> None:
    scene.suite("checks", "program")
    for number in range(scene.rng.randint(1, 2)):
        bad = scene.rng.random() < 0.3
        scene.file(f"checks/c{number}.sh", f"#!/bin/sh\necho looking\nexit {int(bad)}\n")
        (scene.folder / f"checks/c{number}.sh").chmod(0o755)
        scene.expect(f"checks/c{number}.sh", "failed" if bad else "passed")


def _bridge(scene: Scene) -> None:
    scene.suite("books", "bridge", 'bridge = "books/bridge.toml"\n')
    scene.file("books/bridge.toml", BRIDGE)
    scene.file("books/launch.sh", LAUNCHER)
    for number in range(scene.rng.randint(1, 2)):
        bad = scene.rng.random() < 0.3
        scene.file(f"books/b{number}.book", f"entry one\nentry two{'x' if bad else ''}\n")
        scene.expect(f"books/b{number}.book#one", "passed")
        scene.expect(f"books/b{number}.book#two{'x' if bad else ''}", "failed" if bad else "passed")


STEPS = """
from wolfbane.steps import given

@given("berth {number} is free")
def free(shared, number):
    assert number != "7", "it is taken"
"""
BRIDGE = """
about = "the books' launcher"
find = { files = ["*.book"], lines = { test = '^entry (?P<name>\\w+)' } }
[run]
command = ["sh", "books/launch.sh", "{file}", "{names}"]
names = { how = "each" }
[read]
format = "lines"
passed = '^ok (?P<name>\\w+)'
failed = '^no (?P<name>\\w+)'
"""
LAUNCHER = """
bad=0 file=$1
shift
[ $# -gt 0 ] || set -- $(sed -n 's/^entry //p' "$file")
for name in "$@"; do
  case $name in
    *x) echo "no $name"; bad=1 ;;
    *) echo "ok $name" ;;
  esac
done
exit $bad
"""
_OTHERS: Sequence[tuple[str, Callable[[Scene], None]]] = (
    ("sh", _tap),
    ("sh", _program),
    ("sh", _bridge),
    ("python3", _scenario),
    ("node", _node),
)
Results = Mapping[str, Mapping[str, object]]
