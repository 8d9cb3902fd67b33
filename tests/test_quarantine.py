"""Quarantine: failures that do not fail a run, dated, and always shown."""

from __future__ import annotations

import json
from datetime import date, timedelta

import pytest

SUITE = """
    import os

    def test_good():
        pass

    def test_sick():
        assert os.environ.get("CURED"), "it is sick"
"""
TODAY = date.today()


@pytest.fixture
def quay(folder):
    folder.file("test_quay.py", SUITE)
    folder.file("wolfbane.toml", '[[suite]]\nname = "q"\nkind = "python"\npaths = ["test_*.py"]\n')
    return folder


def entry(folder, match="name:sick", more=""):
    since = f"since = {TODAY - timedelta(days=12)}"
    lines = ["[[quarantined]]", f"match = '{match}'", 'because = "it waits"', since, more]
    folder.file("quarantine.toml", "\n".join(lines) + "\n")


def test_added_shown_and_released(quay):
    assert quay.run().code == 1
    ends = str(TODAY + timedelta(days=30))
    added = quay.call(
        "quarantine",
        "add",
        "--name",
        "sick",
        "--because",
        "it waits",
        "--until",
        ends,
        "--owner",
        "quay",
        "--ticket",
        "https://harbour.example/7",
    )
    assert (added.code, "test_quay.py#test_sick" in added.out) == (0, True), added.err
    twice = quay.call("quarantine", "add", "--name", "sick", "--because", "again")
    assert (twice.code, "already quarantined" in twice.err) == (2, True)
    run = quay.run("--report", "xunit=out.xml")
    assert run.code == 0
    assert run.outcomes["test_quay.py#test_sick"] == "failed"
    for message in (
        "quarantined  1 test (failures do not fail the run)",
        f"0 days: it waits; until {ends}; quay",
        "passed 0 of 1 recent runs",
        "it is sick",
        "1 test passed, 1 quarantined (1 failed)",
    ):
        assert message in run.out, run.out
    assert quay.run("--name", "sick").code == 0
    skipped = quay.run("--quarantine", "skip")
    assert list(skipped.outcomes) == ["test_quay.py#test_good"]
    assert "1 by quarantine" in skipped.out
    [told] = json.loads(quay.call("quarantine", "list", "--as", "json").out)
    assert (told["tests"], told["passed"], told["owner"]) == (["test_quay.py#test_sick"], 0, "quay")
    assert "no entry has tests that passed in all" in quay.call("quarantine", "release").out
    for _ in range(2):
        quay.run(CURED="1")
    ready = quay.call("quarantine", "release", "--stable", "2")
    assert ready.out == "1  name:sick: passed in the last 2 runs\n"
    assert quay.call("quarantine", "release", "2").code == 2
    assert quay.call("quarantine", "release", "1").code == 0
    assert quay.run().code == 1


def test_a_date_that_is_past_fails_the_run(quay):
    entry(quay, more=f"until = {TODAY - timedelta(days=1)}")
    run = quay.run(CURED="1")
    assert run.code == 1
    assert "quarantine: the end date of test_quay.py#test_sick has passed" in run.text
    assert "(past)" in quay.call("quarantine", "list").out
    assert quay.run("--name", "good").code == 0


def test_entries_without_tests_are_said(quay):
    entry(quay, match="name:gone")
    run = quay.run("--name", "good")
    assert "quarantine.toml:1: 'name:gone' no longer matches any test" in run.out
    assert "no longer matches any test" in quay.call("quarantine", "list").out


@pytest.mark.parametrize(
    ("lines", "message"),
    [
        ("match = 'name:('\nbecause = 'x'\nsince = 2026-01-01", "quarantine.toml:2: "),
        ("match = 'a'\nbecase = 'x'\nsince = 2026-01-01", "'becase'; did you mean because?"),
        ("match = 'a'\nbecause = 'x'\nsince = 'May'", "not a date; write since = 2026-06-01"),
        ("match = 'a'\nsince = 2026-01-01", "quarantine.toml:1: 'because' is missing"),
    ],
)
def test_a_file_that_is_wrong(quay, lines, message):
    quay.file("quarantine.toml", f"[[quarantined]]\n{lines}\n")
    run = quay.call("run")
    assert (run.code, message in run.err) == (2, True), run.err


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["--because", "x"], "select the tests to quarantine"),
        (["--name", "sick", "--because", " "], "--because is empty"),
        (["--name", "sick", "--because", "x", "--until", "2020-01-01"], "is in the past"),
    ],
)
def test_what_cannot_be_added(quay, arguments, message):
    run = quay.call("quarantine", "add", *arguments)
    assert (run.code, message in run.err) == (2, True), run.err
    assert not (quay.path / "quarantine.toml").exists()
