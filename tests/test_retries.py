"""What fails runs again: how often, when, and what is told of it."""

from __future__ import annotations

from xml.etree import ElementTree

import pytest

SUITE = """
    import os, unittest
    from pathlib import Path

    class Quay(unittest.TestCase):
        def times(self, name):
            place = Path(os.environ["COUNTS"]) / name
            count = int(place.read_text()) + 1 if place.exists() else 1
            place.write_text(str(count))
            print(f"{name}: time {count}, process {os.getpid()}")
            return count

        # tags: shaky
        def test_second(self):
            self.assertGreaterEqual(self.times("second"), 2)

        def test_third(self):
            if self.times("third") < 3:
                raise ValueError(f"not yet: {self.times('told')}")

        def test_never(self):
            self.assertTrue(self.times("never") < 0, "it never does")

        def test_dies(self):
            if self.times("dies") < 2:
                os.abort()

        def test_good(self):
            self.times("good")
"""
PLACE = "test_quay.py#Quay /"


@pytest.fixture
def quay(folder):
    folder.file("test_quay.py", SUITE)
    (folder.path / "counts").mkdir()
    return settings(folder)


def settings(folder, suite="", more=""):
    head = '[[suite]]\nname = "quay"\nkind = "python"\npaths = ["test_quay.py"]\n'
    env = f'env = {{ COUNTS = "{folder.path / "counts"}" }}\n'
    folder.file("wolfbane.toml", head + env + suite + "\n" + more)
    return folder


def outcomes(run):
    return {address.removeprefix(f"{PLACE} test_"): o for address, o in run.outcomes.items()}


def test_every_attempt_is_told(quay):
    run = quay.run("--retries", "2", "--report", "xunit=out.xml", "-j1")
    assert run.code == 1
    assert outcomes(run) == {
        "second": "flaky",
        "third": "flaky",
        "never": "failed",
        "dies": "flaky",
        "good": "passed",
    }
    assert "1 passed, 3 flaky, 1 failed" in run.out
    third = run.results[f"{PLACE} test_third"]
    assert (third["attempt"], [a["attempt"] for a in third["earlier"]]) == (3, [1, 2])
    assert [a["message"] for a in third["earlier"]] == [
        "ValueError: not yet: 1",
        "ValueError: not yet: 2",
    ]
    outputs = [a["output"] for a in third["earlier"]] + [third["output"]]
    assert [o.count(f"third: time {n + 1}") for n, o in enumerate(outputs)] == [1, 1, 1]
    assert len({o.split("process ")[1].split()[0] for o in outputs}) == 3
    never = run.results[f"{PLACE} test_never"]
    assert (never["attempt"], len(never["earlier"])) == (3, 2)
    assert "attempt 2  failed" in run.out and "with the same message" in run.out
    assert "passed on attempt 3" in run.out
    cases = {c.get("name"): c for c in ElementTree.parse(quay.path / "out.xml").iter("testcase")}
    assert cases["Quay / test_second"].find("failure") is None
    told = [p.get("name") for p in cases["Quay / test_second"].iter("property")]
    assert told == ["tag", "attempt 1"]
    assert "passed on attempt 3" in quay.call("show").out
    assert set(outcomes(quay.run("--status", "flaky"))) == {"second", "third", "dies"}


@pytest.mark.parametrize(
    ("when", "order"),
    [("after", ["failed", "passed", "flaky"]), ("at-once", ["failed", "flaky", "passed"])],
)
def test_after_all_others_or_as_soon_as_the_file_is_through(quay, when, order):
    quay.file("test_quiet.py", "def test_quiet():\n    pass\n")
    text = (quay.path / "wolfbane.toml").read_text()
    (quay.path / "wolfbane.toml").write_text(text.replace('["test_quay.py"]', '["test_*.py"]'))
    run = quay.run("--retries", "1", "--name", "second,quiet", "-j1", "-v", "--retry-when", when)
    told = [line.split()[0] for line in run.out.splitlines() if "#" in line]
    assert (run.code, [word for word in told if word in ("failed", "passed", "flaky")][:3]) == (
        0,
        order,
    )


def test_flaky_tests_fail_the_run_on_demand(quay):
    run = quay.run("--retries", "1", "--name", "second", "--flaky-fails")
    assert (run.code, "at least one test is flaky (--flaky-fails)" in run.out) == (1, True)


def test_settings_say_who_may_run_again(quay):
    settings(quay, more='[[retry]]\nmatch = "tag:shaky"\ntimes = 1\n')
    assert outcomes(quay.run("--name", "second,never"))["second"] == "flaky"
    (quay.path / "counts" / "second").unlink()
    assert outcomes(quay.run("--name", "second", "--retries", "0")) == {"second": "failed"}
    (quay.path / "counts" / "second").unlink()
    settings(quay, "retries = 1\n")
    assert outcomes(quay.run("--name", "second,third")) == {"second": "flaky", "third": "errored"}
    settings(quay, "retries = -1\n", '[[retry]]\nmatch = "tag:"\ntimes = 1\n')
    wrong = quay.call("run")
    assert wrong.code == 2
    assert "wolfbane.toml:6: 'retries' is -1" in wrong.err and "wolfbane.toml:9: " in wrong.err


def test_a_run_that_stops_tells_what_it_knows(quay):
    run = quay.run("--retries", "3", "--stop-after", "1", "--name", "never,third", "-j1")
    told = outcomes(run)
    assert (run.code, told["never"]) == (1, "failed")


def test_warnings_fail_the_run_on_demand(quay):
    assert quay.run("--name", "good", "--warnings-fail").code == 0
    quay.file("test_empty.py", "")
    text = (quay.path / "wolfbane.toml").read_text()
    text = text.replace('["test_quay.py"]', '["test_quay.py", "test_empty.py"]')
    quay.file("wolfbane.toml", text)
    warned = quay.run("--name", "good")
    assert (warned.code, "warning  test_empty.py contains no tests" in warned.out) == (0, True)
    failed = quay.run("--name", "good", "--warnings-fail")
    assert failed.code == 1, failed.out
    assert "the run has warnings (--warnings-fail)" in failed.out
