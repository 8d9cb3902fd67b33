"""The rules about imports hold, and notice a violation of each sort."""

from __future__ import annotations

import ast
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import wolfbane
from wolfbane.formats.registry import NAMES
from wolfbane.kinds.contract import Kind
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.reports.report_files import find_writer

SOURCE = Path(wolfbane.__file__).parent
PROJECT = SOURCE.parent.parent
VIOLATIONS = {
    "a room imports a higher one": (
        "results/runs.py",
        "import wolfbane.app.run",
        "Imports run downward through the house",
    ),
    "a new room that no rule lists": (
        "attic/__init__.py",
        "",
        "Imports run downward through the house",
    ),
    "a kind imports another one": (
        "kinds/tap/settings.py",
        "import wolfbane.kinds.cargo.kind",
        "No kind imports another one",
    ),
    "the worker of a kind imports another kind": (
        "kinds/workflow/runner/tokens.py",
        "import wolfbane.kinds.bridge.runner.calls",
        "No kind imports another one",
    ),
    "a room imports a kind": (
        "reports/text.py",
        "import wolfbane.kinds.workflow.arazzo",
        "Only kinds import a kind",
    ),
    "a command imports the kind of bridges": (
        "cli/commands/bridge.py",
        "import wolfbane.kinds.bridge.draft",
        "Only the package that learns and checks bridges imports their kind",
    ),
}
INTERPRETER = ("wolfbane.steps", "wolfbane.kinds.worker")
"""All that code in a suite's own interpreter may import, beside its own package."""


@pytest.mark.parametrize("violation", VIOLATIONS)
def test_a_violation_is_noticed(tmp_path, violation):
    path, line, rule = VIOLATIONS[violation]
    shutil.copytree(SOURCE, tmp_path / "wolfbane", ignore=shutil.ignore_patterns("__pycache__"))
    shutil.copy(PROJECT / "pyproject.toml", tmp_path)
    changed = tmp_path / "wolfbane" / path
    changed.parent.mkdir(exist_ok=True)
    before = changed.read_text() if changed.exists() else ""
    changed.write_text(f"{before}\n{line}\n")
    program = Path(sys.executable).with_name("lint-imports")
    done = subprocess.run(
        [program, "--no-cache"], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.returncode == 1, done.stdout
    broken = [row for row in done.stdout.splitlines() if " BROKEN" in row]
    assert [row for row in broken if row.startswith(rule)], done.stdout


def foreign_imports(path: Path, text: str) -> list[str]:
    """Imports of Wolfbane's own modules that a suite's interpreter must not need."""
    own = ".".join(["wolfbane", *path.relative_to(SOURCE).parent.parts])
    names = []
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.ImportFrom):
            names.append(node.module or "")
        elif isinstance(node, ast.Import):
            names += [alias.name for alias in node.names]
    allowed = (own, "wolfbane.kinds.python.worker", *INTERPRETER)
    return [
        name
        for name in names
        if name.startswith("wolfbane.")
        and not f"{name}.".startswith(tuple(f"{a}." for a in allowed))
    ]


WORKERS = sorted(
    path for pattern in ("worker", "*/worker") for path in SOURCE.glob(f"kinds/{pattern}/*.py")
)


@pytest.mark.parametrize("path", WORKERS, ids=lambda path: path.relative_to(SOURCE).as_posix())
def test_workers_import_only_their_own_package(path):
    text = path.read_text()
    assert foreign_imports(path, text) == []
    assert foreign_imports(path, f"{text}\nfrom wolfbane.model import Test\n") == ["wolfbane.model"]


@pytest.mark.parametrize("name", NAMES)
def test_each_format_has_its_writer(name):
    assert callable(find_writer(name))


@pytest.mark.parametrize("name", KINDS)
def test_each_kind_has_its_name(name):
    kind = find_kind(name)
    assert isinstance(kind, Kind)
    assert kind.name == name
