"""Suites of kind program: a file is a test, judged by its exit code."""

from __future__ import annotations

import pytest

from conftest import suite

PROGRAMS = {
    "opens": ('#!/bin/sh\n# tags: category=billing\necho "$@"\n', "passed", ""),
    "no-crane.sh": ("echo no crane today; exit 77\n", "skipped", "no crane today"),
    "stuck.sh": (
        "echo log; echo the gate is stuck >&2; exit 99\n",
        "errored",
        "exit code 99\nthe gate is stuck",
    ),
    "low.py": (
        "import sys\nprint(sys.argv[1:])\nsys.exit(3)\n",
        "failed",
        "exit code 3\n['--quay', 'north']",
    ),
    "killed.sh": ("kill -9 $$\n", "crashed", "the program was killed by SIGKILL"),
    "strict.rule": ("false\necho never\n", "failed", "exit code 1"),
    "slow.sh": ("echo waiting; exec sleep 600\n", "timed out", "the test ran longer than 2 s"),
}


@pytest.fixture
def gates(folder):
    for name, (text, _, _) in PROGRAMS.items():
        folder.file(f"checks/{name}", text, mode=0o755 if text.startswith("#!") else 0o644)
    folder.file("checks/notes.txt", "not a program\n")
    folder.file(
        "wolfbane.toml",
        suite(
            "gates",
            "program",
            "checks",
            arguments=["--quay", "north"],
            timeout="2s",
            interpreters={".rule": ["sh", "-e"]},
        ),
    )
    return folder


def test_the_exit_code_decides(gates):
    run = gates.run("-j", "4")
    assert run.outcomes == {f"checks/{name}": o for name, (_, o, _) in PROGRAMS.items()}, run.out
    for name, (_, _, message) in PROGRAMS.items():
        assert run.results[f"checks/{name}"]["message"] == message
    assert run.results["checks/slow.sh"]["output"] == "waiting\n"
    assert run.results["checks/opens"]["output"] == "--quay north\n"


def test_the_selection_is_that_of_every_kind(gates):
    assert list(gates.run("--tag", "category=billing").outcomes) == ["checks/opens"]
    assert list(gates.run("checks/low.py:2").outcomes) == ["checks/low.py"]
    skipped = gates.run("--file", "no-crane.sh")
    assert skipped.code == 3 and "nothing was run: all selected tests were\nskipped" in skipped.out


def test_a_named_file_is_always_a_test(folder):
    folder.file("tools/gauge", "#!/bin/sh\nexit 0\n")
    folder.file("wolfbane.toml", suite("gauge", "program", "tools/gauge"))
    assert folder.run().outcomes == {"tools/gauge": "passed"}


@pytest.mark.parametrize("kind", ["tap", "program"])
def test_an_interpreter_that_is_missing_blocks_its_suite(folder, kind):
    folder.file("checks/a.rule", "true\n")
    missing = suite("gates", kind, "checks/a.rule", interpreters={".rule": "no-such-shell"})
    folder.file("wolfbane.toml", missing)
    run = folder.run()
    assert run.outcomes == {"checks/a.rule": "blocked"} and run.code == 4
    assert "interpreter 'no-such-shell' for .rule files not found" in run.out


GATE = """
    printf 'depth 4\\n' >"$WOLFBANE_ATTACH/readings.txt"
    printf '1..3\\nok 1 - north\\nnot ok 2 - south\\n# stuck\\nok 3 - lock # SKIP\\n' \\
      >"$WOLFBANE_ATTACH/parts.tap"
    exit CODE
"""


@pytest.mark.parametrize(
    ("code", "outcome", "message"),
    [
        ("1", "failed", "exit code 1"),
        ("0", "errored", "these parts failed, but the exit code is 0: south"),
    ],
)
def test_a_program_attaches_files_and_names_its_parts(folder, code, outcome, message):
    folder.file("gate.sh", GATE.replace("CODE", code))
    folder.file("wolfbane.toml", suite("gates", "program", "gate.sh"))
    result = folder.run().results["gate.sh"]
    assert (result["outcome"], result["message"]) == (outcome, message)
    assert [(p["name"], p["outcome"]) for p in result["parts"]] == [
        ("north", "passed"),
        ("south", "failed"),
        ("lock", "skipped"),
    ]
    (kept,) = result["evidence"]
    assert kept["name"] == "readings.txt"
    assert next(folder.path.glob(f"**/{kept['path']}")).read_text() == "depth 4\n"
