"""Break random lines of the program, and see whether the tests of their rooms notice.

python -m benchmarks.mutations [--count 60] [--seed N]

Each line is broken in a copy of the project, by one small change: a comparison or a condition
turned round, ``and`` for ``or``, a number one larger, a statement left out. The test files of its
room (benchmarks/rooms.py) then have two minutes. Prints each change that was not noticed.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from benchmarks.rooms import ROOMS, room_of

ROOT = Path(__file__).parent.parent
LIMIT = 120.0
"""Seconds for the tests of one change. Without a failure until then, it counts as not noticed."""
_OPPOSITE: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Lt: ast.GtE,
    ast.GtE: ast.Lt,
    ast.Gt: ast.LtE,
    ast.LtE: ast.Gt,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
}
LEFT_OUT = ("demo/", "kinds/node/worker", "results/history/migrations")
"""Sample data, and code that only old databases need."""


@dataclass(frozen=True)
class Mutation:
    """A change of one line: ``old`` and ``new`` are its source before and after."""

    path: Path
    line: int
    old: str
    new: str


def mutations_of(path: Path) -> Iterator[Mutation]:
    """Every change that can be made to a file."""
    lines = path.read_text(encoding="utf-8").splitlines()
    for node in ast.walk(ast.parse("\n".join(lines))):
        made = _changed(node)
        if made is None or node.lineno != node.end_lineno:  # type: ignore[attr-defined]
            continue
        number, start, end = node.lineno, node.col_offset, node.end_col_offset  # type: ignore[attr-defined]
        before = lines[number - 1].encode()
        after = before[:start] + made.encode() + before[end:]
        yield Mutation(path, number, before.decode(), after.decode())


def _changed(node: ast.AST) -> str | None:
    match node:
        case ast.Compare(ops=[operator]) if type(operator) in _OPPOSITE:
            turned = ast.Compare(node.left, [_OPPOSITE[type(operator)]()], node.comparators)
            return f"({ast.unparse(turned)})"
        case ast.BoolOp():
            operator_class = ast.Or if isinstance(node.op, ast.And) else ast.And
            return f"({ast.unparse(ast.BoolOp(operator_class(), node.values))})"
        case ast.UnaryOp(op=ast.Not()):
            return f"({ast.unparse(node.operand)})"
        case ast.Constant(value=bool() as value):
            return str(not value)
        case ast.Constant(value=int() as value):
            return str(value + 1)
        case ast.Expr(value=ast.Call()) | ast.AugAssign():
            return "pass"
    return None


def notices(mutation: Mutation, copy: Path, run: Callable[[list[str]], int]) -> bool:
    """Whether a test fails with the change. The copy is as before afterwards."""
    relative = mutation.path.relative_to(ROOT)
    target = copy / relative
    text = target.read_text(encoding="utf-8")
    lines = text.splitlines()
    lines[mutation.line - 1] = mutation.new
    target.write_text("\n".join(lines) + "\n", encoding="utf-8")
    room = room_of(relative.relative_to("src/wolfbane").as_posix())
    try:
        return run([f"tests/test_{name}.py" for name in ROOMS[room]]) != 0
    finally:
        target.write_text(text, encoding="utf-8")


def drawn(count: int, rng: random.Random) -> list[Mutation]:
    """Random changes, each of another line."""
    source = ROOT / "src/wolfbane"
    every = [
        mutation
        for path in sorted(source.rglob("*.py"))
        if not path.relative_to(source).as_posix().startswith(LEFT_OUT)
        and room_of(path.relative_to(source).as_posix())
        for mutation in mutations_of(path)
    ]
    rng.shuffle(every)
    by_line = {(mutation.path, mutation.line): mutation for mutation in every}
    return list(by_line.values())[:count]


def main() -> int:
    """Draw, try, report; 1 if fewer than 85% were noticed."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(1_000_000))
    options = parser.parse_args()
    mutations = drawn(options.count, random.Random(options.seed))
    noticed = 0
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder, "copy")
        shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".git", ".venv", ".wolfbane"))
        command = [sys.executable, "-m", "pytest", "-q", "-x", "-n", "2", "--dist", "loadscope"]
        variables = {"PYTHONPATH": f"{copy / 'src'}:{copy}"}

        def run(tests: list[str]) -> int:
            try:
                return subprocess.run(
                    [*command, *tests],
                    cwd=copy,
                    env={**os.environ, **variables},
                    capture_output=True,
                    timeout=LIMIT,
                    check=False,
                ).returncode
            except subprocess.TimeoutExpired:
                print("    out of time", flush=True)
                return 0

        for number, mutation in enumerate(mutations, 1):
            seen = notices(mutation, copy, run)
            noticed += seen
            line = f"{mutation.path.relative_to(ROOT)}:{mutation.line}"
            print(f"{number:3} {'noticed' if seen else 'NOT NOTICED'}  {line}", flush=True)
            if not seen:
                print(f"    - {mutation.old.strip()}\n    + {mutation.new.strip()}", flush=True)
    share = noticed / len(mutations)
    print(
        f"seed {options.seed}, {date.today()}: {noticed} of {len(mutations)} noticed ({share:.0%})"
    )
    return int(share < 0.85)


if __name__ == "__main__":
    sys.exit(main())
