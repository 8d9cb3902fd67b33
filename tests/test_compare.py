"""Two runs compared, by name, by environment, and from reports."""

from __future__ import annotations

import json
from textwrap import dedent

import pytest

from conftest import suite

SUITE = """
    import os, time

    def test_steady():
        pass

    def test_turns():
        assert os.environ.get("TURN") != "1", "it turned"

    def test_heals():
        assert os.environ.get("TURN") == "1"

    def test_ails():
        raise ValueError("always")
"""
SETTINGS = """
    [workspace]
    env = "local"

    [param.place]
    default = "x"
    [env.local]
    place = "here"
    [env.staging]
    place = "there"
"""


@pytest.fixture
def quay(folder):
    folder.file("test_quay.py", SUITE)
    folder.file("wolfbane.toml", dedent(SETTINGS) + suite("q", "python", "test_*.py"))
    return folder


def compared(quay, *arguments):
    run = quay.call("compare", *arguments, "--as", "json")
    assert run.out, run.err
    told = json.loads(run.out)
    groups = ("newly_failing", "still_failing", "mended", "newly_flaky", "new", "gone")
    changed = {
        group: [
            change["address"].partition("#test_")[2].partition(" @")[0] for change in told[group]
        ]
        for group in groups
        if told[group]
    }
    return run.code, changed, told


def test_what_changed_between_two_runs(quay):
    quay.run()
    quay.file("test_quay.py", SUITE + "\n    def test_added():\n        assert 0\n")
    quay.run(TURN="1")
    code, changed, told = compared(quay, "last", "previous")
    assert (code, changed) == (
        0,
        {
            "newly_failing": ["turns"],
            "still_failing": ["ails"],
            "mended": ["heals"],
            "new": ["added"],
        },
    )
    assert told["counts"] == {"passed": [2, 2], "failed": [1, 2], "errored": [1, 1]}
    assert told["newly_failing"][0]["message"] == "it turned"
    assert compared(quay, "--fail-on", "regression")[0] == 1
    assert compared(quay, "--fail-on", "slower")[0] == 0
    shown = quay.call("compare").out
    assert "newly failing  1 test\n  test_quay.py#test_turns @local  passed -> failed" in shown
    assert compared(quay, "--pick", "name:heals", "--fail-on", "regression")[:2] == (
        0,
        {"mended": ["heals"]},
    )
    quay.run("--name", "steady")
    assert "no run before" in quay.call("compare").err
    fewer = quay.call("compare", "previous", "last").out
    assert "the runs have different selections: everything / name:steady" in fewer
    assert "removed  4 tests" in fewer


def test_runs_are_named_by_environment_and_by_report(quay):
    quay.run("--env", "staging", "--report", "json=kept.json")
    quay.run("--env", "staging", TURN="1")
    quay.run("--env", "local")
    assert compared(quay, "previous@staging", "last@staging")[1]["newly_failing"] == ["turns"]
    _, changed, told = compared(quay, "kept.json", "last@staging")
    assert changed["newly_failing"] == ["turns"]
    assert told["before"]["origin"] == "report kept.json"


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["last@stagin", "last"], "no run in environment 'stagin' is recorded"),
        (["lst", "last"], "there is no run 'lst'; did you mean last?"),
        (["last", "last"], "are the same run"),
        (["previous", "last"], "there is no previous run; recorded runs: 1"),
        (["wolfbane.toml", "last"], "is not TAP"),
    ],
)
def test_names_that_mean_no_run(quay, arguments, message):
    quay.run()
    run = quay.call("compare", *arguments)
    assert (run.code, message in run.err) == (2, True), run.err
