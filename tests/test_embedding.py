"""Wolfbane from Python: what is exported, and what a run yields."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import pytest

import wolfbane

EXPORTED = {
    "Event",
    "InputError",
    "NothingChosen",
    "OpenWorkspace",
    "Outcome",
    "Problem",
    "Result",
    "RunFinished",
    "RunRequest",
    "RunStarted",
    "Test",
    "TestFinished",
    "TestRepeated",
    "TestRetried",
    "TestStarted",
    "WolfbaneError",
    "__version__",
    "open_workspace",
}


def test_what_is_exported():
    assert set(wolfbane.__all__) == EXPORTED
    for name in EXPORTED:
        assert getattr(wolfbane, name) is not None
    with pytest.raises(AttributeError, match="no attribute 'Pool'"):
        _ = wolfbane.Pool  # type: ignore[attr-defined]


def test_to_import_it_imports_nothing_else():
    code = "import sys, wolfbane; print([m for m in sys.modules if m.startswith('wolfbane.')])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"


@pytest.fixture
def quay(folder):
    folder.write(
        test_quay_py="""
        # tags: smoke
        def test_high(): pass
        def test_low(): assert 1 == 2
        """
    )
    return folder


def driven(folder, code):
    """What a program of somebody's prints, which uses Wolfbane."""
    script = folder.file("drive.py", f"from wolfbane import *\nw = open_workspace('.')\n{code}")
    done = subprocess.run(
        [sys.executable, script.name],
        cwd=folder.path,
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, **folder.environment()},
    )
    assert not done.stderr, done.stderr
    return done.stdout


def test_a_run_yields_its_events_and_is_on_record(quay):
    out = driven(
        quay,
        "import dataclasses, json\n"
        "for event in w.run(jobs=1, reports=('json=out.json',)):\n"
        "    print(type(event).__name__, getattr(getattr(event, 'result', 0), 'name', ''))\n",
    )
    assert out.split("\n")[-6:] == [
        "TestStarted ",
        "TestFinished test_high",
        "TestStarted ",
        "TestFinished test_low",
        "RunFinished ",
        "",
    ]
    assert "1 passed, 1 failed" in quay.call("show").out
    assert len(json.loads((quay.path / "out.json").read_text())["results"]) == 2


def test_a_selection_is_that_of_the_command_line(quay):
    code = "print([t.address for t in w.list(pick='tag:smoke')])\n"
    code += "print([t.name for t in w.plan('test_quay.py', drop='high').plan.tests])\n"
    code += "print(w.suites)\n"
    assert driven(quay, code) == "['test_quay.py#test_high']\n['test_low']\n('python',)\n"


def test_who_stops_to_iterate_ends_the_run(folder):
    folder.write(
        test_quay_py="""
        import time
        def test_high(): pass
        def test_low(): time.sleep(600)
        """
    )
    driven(folder, "for event in w.run(jobs=1):\n    if isinstance(event, TestFinished): break\n")
    assert "Interrupted, 1 test not run" in folder.call("show").out


@pytest.mark.parametrize(
    ("call", "error"),
    [
        ("w.list(pick='sute:a')", "InputError unknown field 'sute:'; did you mean suite?"),
        (
            "w.run(pick='tag:none')",
            "NothingChosen No tests match the selection, so no tests were run.",
        ),
        ("w.run(reports=('pdf=a',))", "InputError --report pdf=a: unknown format 'pdf'"),
        ("w.run(order='randm')", "InputError 'order' is 'randm'; did you mean random?"),
        ("open_workspace('nowhere')", "InputError"),
    ],
)
def test_errors_are_those_of_the_command_line(quay, call, error):
    code = f"try: list({call})\nexcept WolfbaneError as e: print(type(e).__name__, e)\n"
    assert driven(quay, code).startswith(error)
