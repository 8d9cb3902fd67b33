"""``wolfbane again``: a recorded run repeated, or only the failed tests of it."""

from __future__ import annotations

import json
import shlex
import subprocess
from textwrap import dedent

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import suite
from wolfbane import open_workspace

SETTINGS = """
    [workspace]
    name = "Quay"
    env = "local"
    leave_out = "tag:wip"

    [param.berth]
    export = "BERTH"
    default = "A1"
    [param.key]
    secret = true
    export = "KEY"

    [env.local]
    [env.staging]
    berth = "B2"

    [preset.quick]
    arguments = ["--drop", "slow", "--everything"]
    [preset.berths]
    arguments = ["--set", "berth=A1,B2", "--spread", "berth", "--suite", "fees"]
"""
SUITES = suite("tides", "python", "tides", tags=["unit"]) + suite("fees", "python", "fees")


@pytest.fixture
def quay(folder):
    """Tests that fail on berth B2, or while the file 'broken' is there."""
    folder.file("wolfbane.toml", dedent(SETTINGS) + SUITES)
    folder.file(
        "tides/test_tides.py",
        """
        import os
        def test_high(): pass
        def test_low(): assert not os.path.exists("broken")
        # tags: slow
        def test_slow(): pass
        # tags: wip
        def test_wip(): pass
    """,
    )
    folder.file(
        "fees/test_fees.py",
        """
        import os, unittest
        class Fees(unittest.TestCase):
            def test_tenth(self): self.assertEqual(os.environ["BERTH"], "A1")
            def test_key(self): self.assertNotEqual(os.environ.get("KEY"), "bad")
    """,
    )
    return folder


def repeated(quay, *arguments):
    """The results and what was started of ``wolfbane again``."""
    done = quay.call("again", *arguments, "--report", "json=again.json")
    file = quay.path / "again.json"
    read = json.loads(file.read_text()) if file.exists() else {"results": [], "started": None}
    file.unlink(missing_ok=True)
    return done, [each["address"] for each in read["results"]], read["started"]


def test_what_failed_runs_again_where_it_failed(quay):
    first = quay.run("--env", "local,staging", "--suite", "fees")
    failing = "fees/test_fees.py#Fees / test_tenth @staging"
    assert [a for a, outcome in first.outcomes.items() if outcome == "failed"] == [failing]
    assert "run the failed tests again" not in first.out, "one test has a line of its own"
    done, addresses, _ = repeated(quay, "--failed")
    assert (done.code, addresses) == (1, [failing])
    done, addresses, started = repeated(quay)
    assert (done.code, addresses) == (1, [failing])
    assert [target["label"] for target in started["targets"]] == ["staging"]
    mended = (quay.path / "wolfbane.toml").read_text().replace('"B2"', '"A1"', 1)
    (quay.path / "wolfbane.toml").write_text(mended)
    done, addresses, _ = repeated(quay, "--failed")
    assert (done.code, addresses) == (0, [failing])
    nothing, _, _ = repeated(quay, "--failed")
    assert (nothing.code, "nothing failed in run" in nothing.err) == (3, True)


def test_reports_recommend_it_and_the_recommendation_works(quay):
    quay.file("broken", "")
    done = quay.run("--env", "staging", "--report", "html=page.html")
    (line,) = [
        each for each in done.out.splitlines() if each.startswith("run the failed tests again")
    ]
    command = shlex.split(line.partition(": ")[2])
    assert " ".join(command) in (quay.path / "page.html").read_text()
    again = quay.run()  # another run meanwhile
    assert again.code == 1
    done = quay.call(*command[1:], "--report", "json=again.json")
    read = json.loads((quay.path / "again.json").read_text())
    assert {each["address"] for each in read["results"]} == {
        "tides/test_tides.py#test_low",
        "fees/test_fees.py#Fees / test_tenth",
    }
    assert read["started"]["targets"][0]["environment"] == "staging"


def test_options_replace_those_of_the_run(quay):
    quay.run("--tag", "unit", "--jobs", "2", "--set", "berth=C3", "--set", "key=low")
    secret = quay.call("again")
    assert secret.code == 2
    assert "value of --set key is secret and was not recorded; pass it again" in secret.err
    line = quay.call("again", "--set", "key=x", "--tag", "slow", "--print-command").out
    assert "--tag slow" in line
    assert "--tag unit" not in line
    assert "--set berth=C3" in line
    assert line.count("--set") == 2
    done, addresses, _ = repeated(quay, "--set", "key=x", "--tag", "slow", "--jobs", "1")
    assert (done.code, addresses) == (0, ["tides/test_tides.py#test_slow"])


def test_it_means_the_same_tests_later_and_elsewhere(quay):
    quay.file("broken", "")
    quay.run()
    quay.run("--status", "failed", "--env", "local")
    (quay.path / "broken").unlink()
    quay.run()
    runs = [each["run"] for each in json.loads(quay.call("runs", "--as", "json").out)]
    _, addresses, _ = repeated(quay, runs[1])
    assert addresses == ["tides/test_tides.py#test_low"]
    inside = subprocess.run(
        quay.command("run", "test_fees.py", "--report", "json=fees.json"),
        cwd=quay.path / "fees",
        env=quay.environment(),
        capture_output=True,
        text=True,
        check=True,
    )
    assert "2 tests" in inside.stdout
    line = quay.call("again", "--print-command").out
    assert shlex.split(line)[-1] == "fees/test_fees.py"
    assert "--report json=fees/fees.json" in line


def test_a_revision_and_a_seed_are_those_of_then(quay):
    quay.file(".gitignore", ".wolfbane\n*.json\n")
    quay.git("init", "--quiet")
    quay.git("add", "--all")
    quay.git("commit", "--quiet", "--message", "one")
    commit = quay.git("rev-parse", "HEAD").strip()
    quay.run("--at", "main", "--order", "random")
    quay.file("tides/test_tides.py", "def test_high(): pass\n")
    quay.git("commit", "--quiet", "--all", "--message", "two")
    started = json.loads((quay.path / "report.json").read_text())["started"]
    done, _, again = repeated(quay)
    assert again["suite_state"]["commit"] == commit == started["suite_state"]["commit"]
    assert (again["seed"], again["tests"]) == (started["seed"], started["tests"])
    assert done.code == 0


def test_runs_of_other_commands(quay, monkeypatch):
    nobody = quay.call("again")
    assert (nobody.code, "no runs are recorded" in nobody.err) == (2, True)
    quay.run("fees")
    wrong = quay.call("again", "lsat")
    assert (wrong.code, "there is no run 'lsat'; did you mean last?" in wrong.err) == (2, True)
    quay.run("--share", "1/2", "--order", "random")
    line = quay.call("again", "--order", "longest", "--print-command").out
    assert "--share 1/2" in line
    assert "--seed" not in line
    quay.run("--env", "staging", "--share", "1/2", "--suite", "fees")
    quay.run("--env", "staging", "--share", "2/2", "--suite", "fees")
    quay.file("broken", "")
    quay.run("tides", "--share", "1/1")
    assert "--share" not in quay.call("again", "--failed", "--print-command").out
    monkeypatch.chdir(quay.path)
    list(open_workspace().run("tides/test_tides.py#test_high"))
    done, addresses, _ = repeated(quay)
    assert (done.code, addresses) == (0, ["tides/test_tides.py#test_high"])
    odd = quay.call("again", "--no-such")
    assert odd.code == 2


FIELDS = {
    "--suite": ["tides", "fees", "tides,fees"],
    "--tag": ["unit", "slow"],
    "--name": ["t", "low"],
    "--pick": ["not tag:slow", "suite:fees or name:high"],
    "--drop": ["name:key"],
    "--preset": ["quick", "berths"],
    "--env": ["local", "staging", "local,staging"],
    "--order": ["random", "failed"],
    "--status": ["passed", "new"],
}
choosing = st.tuples(
    st.lists(
        st.sampled_from(list(FIELDS)).flatmap(
            lambda name: st.tuples(st.just(name), st.sampled_from(FIELDS[name]))
        ),
        max_size=4,
        unique_by=lambda pair: pair[0],
    ),
    st.sampled_from(
        [(), ("fees",), ("tides/test_tides.py:3",), ("fees/test_fees.py#Fees",), ("*/test_t*",)]
    ),
    st.booleans(),
)


@given(choosing)
@settings(
    max_examples=8, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
def test_the_same_tests_are_chosen(quay, chosen):
    options, paths, everything = chosen
    arguments = [word for pair in options for word in pair]
    first = quay.run(*arguments, *paths, *(["--everything"] if everything else []), "--jobs", "1")
    if first.code not in (0, 1):
        return  # it chooses nothing, or contradicts itself
    plan = json.loads((quay.path / "report.json").read_text())
    done, addresses, started = repeated(quay)
    assert done.code == first.code, done.err
    assert sorted(addresses) == sorted(first.results)
    if not plan["started"]["chosen"]:  # else environments in which nothing was chosen are left
        assert started["targets"] == plan["started"]["targets"]
    assert started["seed"] == plan["started"]["seed"]
    if started["seed"] is not None:
        assert addresses == list(first.results)


def test_a_part_leaves_reports_alone_and_files_may_be_gone(folder):
    for name in ("ebb", "flood"):
        folder.file(f"test_{name}.py", "def test_a(): assert 0\ndef test_b(): pass\n")
    folder.file("test_slack.py", "raise OSError\n")
    reports = ["--report", "xunit=all.xml", "--report", "record=run.tar.gz"]
    folder.run("--jobs", "1", *reports)
    before = {name: (folder.path / name).read_bytes() for name in ("all.xml", "run.tar.gz")}
    (folder.path / "test_ebb.py").rename(folder.path / "test_low.py")
    done, addresses, _ = repeated(folder, "--failed")
    assert sorted(addresses) == ["test_flood.py#test_a", "test_slack.py"]
    assert "test_ebb.py does not exist any more: its tests are left out" in done.err
    assert {name: (folder.path / name).read_bytes() for name in before} == before
    (folder.path / "test_flood.py").unlink()
    (folder.path / "test_slack.py").unlink()
    nothing = folder.call("again", "previous", "--failed")
    assert (nothing.code, "none of these files exists any more" in nothing.err) == (3, True)


def test_what_an_interrupted_run_left(folder):
    folder.file(
        "test_a.py",
        """
        import unittest
        class A(unittest.TestCase):
            def test_1(self): self.fail()
            def test_2(self): pass
            def test_3(self): self.fail()
            def test_4(self): pass
    """,
    )
    folder.file("test_b.py", 'def test_5(): pass\ndef test_"6(): pass\n'.replace('"', ""))
    first = folder.run("--jobs", "1", "--stop-after", "1", "test_a.py", "test_b.py")
    assert len(first.results) < 6
    every = {f"test_a.py#A / test_{n}" for n in range(1, 5)}
    every |= {"test_b.py#test_5", "test_b.py#test_6"}
    done, addresses, _ = repeated(folder, "--unfinished", "--stop-after", "9")
    assert done.code == 1
    assert set(addresses) == every - set(first.results)
    name = first.out.split("run ")[-1].split()[0]
    bad = {address for address, outcome in first.outcomes.items() if outcome == "failed"}
    _, addresses, _ = repeated(folder, name, "--unfinished", "--failed", "--stop-after", "9")
    assert set(addresses) == (every - set(first.results)) | bad
    nothing, _, _ = repeated(folder, "--unfinished")
    assert (nothing.code, "nothing was left to run in run" in nothing.err) == (3, True)
