"""The shape of the source: names, sizes and imports, as docs/architecture.md promises them."""

from __future__ import annotations

import ast
from collections import defaultdict
from functools import cache
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

import pytest
from benchmarks.rooms import ROOMS, files_for, room_of

from wolfbane.kinds.registry import KINDS

SOURCE = Path(__file__).parent.parent / "src" / "wolfbane"
FILES = [p for p in SOURCE.rglob("*.py") if "demo/harbour" not in p.as_posix()]
# Words that mean something else there: a command, a report format, a moment of hooks.
OTHER_MEANINGS = {
    "cli/__init__.py": {"bridge"},
    "cli/commands/bridge.py": {"bridge"},
    "formats/registry.py": {"tap"},
    "selection/fields.py": {"tap"},
    "steps.py": {"scenario"},
    "load/measured.py": {"workflow"},
    "load/measurements.py": {"workflow"},
    "reports/load/csv_markdown.py": {"workflow"},
    "reports/load/comparison.py": {"workflow"},
    "app/bridges/readings.py": {"tap"},
    "app/bridges/learn.py": {"bridge"},
}


@cache
def trees():
    """Each file, read."""
    return {path: ast.parse(path.read_text(encoding="utf-8")) for path in FILES}


def name_of(path):
    parts = ("wolfbane", *path.relative_to(SOURCE).with_suffix("").parts)
    return ".".join(part for part in parts if part != "__init__")


def test_no_kind_is_named_outside_of_its_package():
    for path, tree in trees().items():
        inside = path.relative_to(SOURCE).as_posix()
        if inside.startswith("kinds/"):
            continue
        texts = {n.value for n in ast.walk(tree) if isinstance(n, ast.Constant)}
        assert texts & set(KINDS) <= OTHER_MEANINGS.get(inside, set()), inside


def test_no_class_name_twice():
    places = defaultdict(list)
    for path, tree in trees().items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef):
                places[node.name].append(name_of(path))
    assert {name: result for name, result in places.items() if len(result) > 1} == {}


def test_no_module_imports_itself_by_way_of_others():
    modules = {name_of(path) for path in FILES}
    imports = defaultdict(set)
    for path, tree in trees().items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and node.module and path != SOURCE / "__init__.py":
                for alias in node.names:
                    whole = f"{node.module}.{alias.name}"
                    imports[name_of(path)].add(whole if whole in modules else node.module)
    try:
        TopologicalSorter({name: result & modules for name, result in imports.items()}).prepare()
    except CycleError as error:
        pytest.fail(" -> ".join(error.args[1]))


def test_files_and_functions_are_short():
    sizes = {name_of(path): path.read_text().count("\n") for path in FILES}
    assert {name: size for name, size in sizes.items() if size > 300} == {}
    for path, tree in trees().items():
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                lines = (node.end_lineno or 0) - node.lineno + 1
                assert lines <= 45, f"{name_of(path)}.{node.name}: {lines} lines"
                given = [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]
                count = len([each for each in given if each.arg not in ("self", "cls")])
                callback = "cli" in path.parts and node.decorator_list
                assert count <= 8 or callback, f"{name_of(path)}.{node.name}: {count} parameters"
            if isinstance(node, ast.IfExp):
                ternaries = sum(isinstance(inner, ast.IfExp) for inner in ast.walk(node))
                assert ternaries == 1, f"{name_of(path)}:{node.lineno}: one inside another"


def test_each_file_has_a_room_with_tests():
    gone = [room for room in ROOMS if not (SOURCE / room).exists()]
    assert gone == [], "rooms that no longer exist"
    paths = [path.relative_to(SOURCE).as_posix() for path in FILES]
    homeless = [path for path in paths if not room_of(path) and "/" in path]
    assert homeless == [], "files without a room"
    tests = files_for(f"src/wolfbane/{room}" for room in ROOMS)
    assert [test for test in tests if not (SOURCE.parents[1] / test).exists()] == []
