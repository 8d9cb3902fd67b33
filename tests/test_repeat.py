"""``--repeat``: each test runs many times, and the run says how often it passed."""

from __future__ import annotations

import json
from xml.etree import ElementTree

import pytest

from conftest import suite

TESTS = """
    import os, unittest

    RUNS = 0

    class Gulls(unittest.TestCase):
        def test_third_fails(self):
            with open("landings", "a+") as file:
                file.write("x")
                file.seek(0)
                self.assertNotEqual(len(file.read()), 3)

        def test_first_of_its_process(self):
            global RUNS
            RUNS += 1
            self.assertEqual(RUNS, 1)

        @unittest.skip("no gulls")
        def test_skipped(self):
            pass
"""
THIRD, FIRST = (f"test_gulls.py#Gulls / test_{n}" for n in ("third_fails", "first_of_its_process"))


@pytest.fixture
def quay(folder):
    folder.file("test_gulls.py", TESTS)
    return folder


def counts(done):
    return {
        address.rpartition("_")[2]: (results["passed"], results["runs"])
        for address, result in done.results.items()
        if (results := result["repeated"])
    }


def test_each_run_is_counted_in_a_fresh_worker_or_in_one(quay):
    fresh = quay.run(
        "--repeat",
        "5",
        "--report",
        "html=page.html",
        "--report",
        "xunit=x.xml",
        "--report",
        "ctrf=c.json",
    )
    assert fresh.code == 1
    assert counts(fresh) == {"fails": (4, 5), "process": (5, 5)}
    assert fresh.results[THIRD]["outcome"] == "failed"
    assert fresh.results["test_gulls.py#Gulls / test_skipped"]["repeated"] is None
    assert "4 of 5" in fresh.out
    assert "passed 4 of 5 runs; median" in fresh.text
    assert "passed 4 of 5 runs; median" in (quay.path / "page.html").read_text()
    cases = ElementTree.parse(quay.path / "x.xml").iter("property")
    assert "4 of 5 runs passed" in [each.get("value") for each in cases]
    tests = json.loads((quay.path / "c.json").read_text())["results"]["tests"]
    assert [each["extra"]["repeated"]["runs"] for each in tests if "extra" in each] == [5, 5]
    same = quay.run("--repeat", "3", "--repeat-in", "same")
    assert counts(same) == {"fails": (3, 3), "process": (1, 3)}
    assert len(same.results[FIRST]["earlier"]) == 1


def test_it_ends_at_the_first_failure_or_after_a_time(quay):
    first = quay.run("--repeat", "50", "--stop-after", "1", "--jobs", "1")
    result = counts(first)
    assert (first.code, result["fails"]) == (1, (2, 3))
    assert 0 < result["process"][1] < 50
    limited = quay.run("--repeat-for", "0.01s")
    assert set(counts(limited)) == {"fails", "process"}
    bounded = quay.run("--repeat-for", "10m", "--repeat", "2")
    assert {runs for _, runs in counts(bounded).values()} == {2}


def test_tests_that_need_each_other_repeat_together_and_other_kinds_do(quay):
    suites = suite("log", "tap", "log.sh", retries=3) + suite("gulls", "python", "test_gulls.py")
    quay.file("wolfbane.toml", suites)
    quay.file("log.sh", "echo x >> times; echo 1..1; [ $(wc -l < times) -ne 2 ] && echo ok 1\n")
    done = quay.run("log.sh", "--repeat", "4")
    (log,) = done.results.values()
    assert (log["repeated"]["passed"], log["repeated"]["runs"]) == (3, 4)
    assert (quay.path / "times").read_text().count("x") == 4
    assert done.code == 1


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["--repeat", "0"], "0 is not in the range x>=1"),
        (["--repeat", "2", "--retries", "1"], "--repeat and --retries cannot be used together"),
        (["--repeat-in", "same"], "--repeat-in needs --repeat or --repeat-for"),
        (["--repeat-for", "soon"], "soon"),
    ],
)
def test_what_makes_no_sense_is_refused(quay, arguments, message):
    done = quay.run(*arguments)
    assert (done.code, message in done.err) == (2, True), done.err
