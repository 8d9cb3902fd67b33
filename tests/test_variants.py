"""An outcome belongs to a test in an environment, in every command."""

from __future__ import annotations

import json
from textwrap import dedent
from xml.etree import ElementTree

import pytest

from conftest import suite

SETTINGS = """
    [workspace]
    env = "local"

    [param.place]
    export = "PLACE"
    [env.local]
    place = "mole"
    [env.staging]
    place = "pier"
"""
SUITE = """
    import os, unittest

    class Quay(unittest.TestCase):
        def test_place(self):
            self.assertNotIn(os.environ["PLACE"], os.environ.get("WRONG", "pier"))

        def test_tide(self):
            pass
"""
PLACE = "tests/test_quay.py#Quay / test_place"
TIDE = "tests/test_quay.py#Quay / test_tide"
BOTH = ("--env", "local,staging")


@pytest.fixture
def quay(folder):
    folder.file("wolfbane.toml", dedent(SETTINGS) + suite("quay", "python", "tests"))
    folder.file("tests/test_quay.py", SUITE)
    return folder


@pytest.mark.parametrize("against", [BOTH, ("--env", "staging")])
def test_what_failed_runs_again_where_it_failed_and_nowhere_else(quay, against):
    assert quay.run(*against).code == 1
    listed = json.loads(quay.call("list", "--status", "failed", "--as", "json").out)
    assert [test["name"] for test in listed] == ["Quay / test_place"]
    again = quay.run("--status", "failed")
    assert (again.code, [*again.outcomes.values()]) == (1, ["failed"])
    assert "staging: place=pier" in again.out
    mended = quay.run("--status", "failed", WRONG="nowhere")
    assert (mended.code, [*mended.outcomes.values()]) == (0, ["passed"])
    assert quay.run("--status", "failed").code == 3


def test_what_failed_without_an_environment_runs_again_beside_the_others(quay):
    settings = SETTINGS.replace('env = "local"', "").replace(
        "[param.place]", '[param.place]\n    default = "pier"'
    )
    quay.file("wolfbane.toml", settings)
    assert quay.run().code == 1
    assert quay.run("--env", "staging").code == 1
    again = quay.run("--status", "failed")
    assert again.outcomes == {PLACE: "failed", f"{PLACE} @staging": "failed"}, again.out


def test_an_address_means_the_test_in_every_environment(quay):
    for path in (PLACE, "tests/test_quay.py:5", "tests/test_quay.py#Quay"):
        run = quay.run(path, *BOTH, "--name", "place")
        assert set(run.outcomes) == {f"{PLACE} @local", f"{PLACE} @staging"}, path
    assert list(quay.run(f"{PLACE} @staging").outcomes) == [f"{PLACE} @staging"]
    shown = quay.call("explain", "tests/test_quay.py:5").out
    assert "passed" in shown and "@local" in shown and "failed" in shown and "@staging" in shown


def test_a_run_against_one_is_compared_with_one_against_several_by_name(quay):
    quay.run(*BOTH, WRONG="nowhere")
    assert quay.call("compare", "previous", "last").code == 2
    quay.run("--env", "staging")
    compared = quay.call("compare", "previous", "last", "--fail-on", "regression")
    assert compared.code == 1
    assert f"{PLACE} @staging  passed -> failed" in compared.out
    assert "in only one of the runs, and not compared: local" in compared.out
    assert "gone" not in compared.out
    quay.run(*BOTH)
    only = quay.call("compare", "previous@staging", "last@staging").out
    assert "@local" not in only and f"{PLACE} @staging  failed -> failed" in only
    quay.run("--env", "local")
    other = quay.call("compare", "last@local", "previous@staging").out  # one against another
    assert f"{PLACE}  failed -> passed" in other


def test_compare_takes_the_last_two_that_chose_the_same(quay):
    quay.run()
    quay.run("--name", "tide")
    quay.run(WRONG="mole")
    told = json.loads(quay.call("compare", "--as", "json").out)
    assert [change["address"] for change in told["newly_failing"]] == [f"{PLACE} @local"]
    assert told["gone"] == told["new"] == []


def test_the_history_has_a_line_for_each_environment_and_looks_at_their_runs(quay):
    quay.run(*BOTH)
    for _ in range(3):  # other tests' runs push nothing out
        quay.run("--name", "tide")
    shown = json.loads(quay.call("history", "--name", "place", "--runs", "2", "--as", "json").out)
    assert [(each["address"], each["runs"], each["passed"]) for each in shown] == [
        (f"{PLACE} @local", 1, 1),
        (f"{PLACE} @staging", 1, 0),
    ]


def test_quarantine_is_one_rule_everywhere(quay):
    entry = "[[quarantined]]\nmatch = 'name:place'\nbecause = 'silt'\nsince = 2026-01-01\n{}"
    quay.file("quarantine.toml", entry.format(""))
    quay.run(*BOTH, WRONG="nowhere")
    reports = [f"--report={form}=out.{form}" for form in ("markdown", "xunit")]
    run = quay.run(*BOTH, *reports)
    assert run.code == 0
    assert "All 2 tests passed, 2 quarantined (1 passed, 1 failed)" in run.text
    assert "2 passed, 2 quarantined" in (quay.path / "out.markdown").read_text()
    assert 'failures="0"' in (quay.path / "out.xunit").read_text()
    compared = quay.call("compare", "--fail-on", "regression")
    assert compared.code == 0
    assert f"{PLACE} @staging  passed -> failed  quarantined" in compared.out
    assert "failed  " not in compared.out.partition("newly failing")[0]
    assert "since 2026-01-01: silt" in quay.call("explain", PLACE).out
    quay.run("--env", "local", WRONG="nowhere")
    quay.run("--env", "staging")
    across = quay.call("compare", "last@local", "last@staging", "--fail-on", "regression")
    assert across.code == 0 and "passed -> failed  quarantined" in across.out
    quay.file("quarantine.toml", entry.format("until = 2026-02-01\n"))
    over = quay.run()
    assert over.code == 1
    assert "the end date has passed for 1 test; this fails the run" in over.out


def test_every_case_of_a_report_has_a_name_of_its_own(quay):
    quay.run(*BOTH, "--report", "xunit=out.xml")
    cases = ElementTree.parse(quay.path / "out.xml").iter("testcase")
    names = [(case.get("classname"), case.get("name")) for case in cases]
    assert len(set(names)) == len(names) > 2
