"""Launchers that only print: units, colours, progress, and lines that cannot be used together."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wolfbane.kinds.bridge.learning.line_frames import Parts
from wolfbane.kinds.bridge.learning.line_patterns import line_patterns
from wolfbane.kinds.bridge.learning.vocabulary import vocabulary

SUITE = '[[suite]]\nname = "s"\nkind = "bridge"\npaths = ["day.x"]\nbridge = "b.toml"\n'
BRIDGE = r"""
    about = "one that prints"
    [find]
    files = ["*.x"]
    lines = { test = '^(?P<name>\w+)' }
    [run]
    command = ["python3", "launcher.py", ["--only", "{names}"]]
    [run.names]
    how = "joined"
    [read]
    format = "lines"
    passed = '^(?P<name>\w+) fine(?: \((?P<seconds>\d+))?'
    failed = '^(?P<name>\w+) wrong'
    ignore = '^\d+ of \d+'
"""
LAUNCHER = """
    import json, sys
    said = json.load(open("said.json"))
    only = sys.argv[2].split(",") if "--only" in sys.argv else said["all"]
    assert sys.argv[1:2] != ["--only"] or len(sys.argv) > 2, "an option without its value"
    for line in said["lines"]:
        if line.split()[0].strip("\\x1b[3210m") in only or line[0].isdigit() or line[0] == " ":
            print(line, end=said.get("end", "\\n"), flush=True)
    sys.exit(said["code"])
"""


@pytest.fixture
def printing(folder):
    def make(lines, *, tests=("ebb", "flood"), code=0, bridge=BRIDGE, **more):
        folder.file("wolfbane.toml", SUITE)
        folder.file("b.toml", bridge)
        folder.file("launcher.py", LAUNCHER)
        folder.file("day.x", "".join(f"{name}\n" for name in tests))
        said = {"lines": lines, "code": code, "all": [*tests, *more.pop("others", ())], **more}
        folder.file("said.json", json.dumps(said))
        return folder

    return make


def test_units_colours_and_progress(printing):
    lines = ["1 of 2", "\x1b[32mebb\x1b[0m fine (12 ms)", "2 of 2", "flood fine (3 s)"]
    for end in ("\n", "\r", "\r\n"):
        run = printing(lines, end=end).run()
        assert (run.code, run.outcomes) == (0, {"day.x#ebb": "passed", "day.x#flood": "passed"})
        seconds = [run.results[f"day.x#{name}"]["seconds"] for name in ("ebb", "flood")]
        assert seconds == [0.012, 3.0], run.out


def test_the_worst_of_several_lines_counts(printing):
    run = printing(["ebb fine", "flood fine", "ebb wrong"], code=1).run()
    assert (run.code, run.outcomes) == (1, {"day.x#ebb": "failed", "day.x#flood": "passed"})
    assert "the test was reported more than once; the last report was: failed" in run.text
    run = printing(["ebb wrong", "flood fine", "ebb fine"], code=1).run()
    assert run.outcomes == {"day.x#ebb": "failed", "day.x#flood": "passed"}


def test_a_contradiction_that_comes_after_the_report_is_no_success(printing):
    said = [{"name": n, "outcome": o} for n, o in (("ebb", "passed"), ("ebb", "failed"))]
    bridge = BRIDGE.partition("[read]")[0] + '[read]\n    format = "events"\n'
    lines = [f" {json.dumps(each)}" for each in said]
    run = printing(lines, tests=["ebb"], code=1, bridge=bridge).run()
    assert run.code == 1
    assert "ebb was reported as passed, and later as failed" in run.text


def test_a_failure_shows_what_was_printed_around_it(printing):
    run = printing(["ebb fine", " owed: 18", "flood wrong", " at line 3"], code=1).run()
    assert run.results["day.x#flood"]["output"] == " owed: 18\nflood wrong\n at line 3"
    assert run.results["day.x#ebb"]["output"] == ""


def test_a_test_without_a_result_shows_the_command(printing):
    run = printing(["ebb fine"], code=0).run()
    assert run.outcomes == {"day.x#ebb": "passed", "day.x#flood": "errored"}
    assert run.results["day.x#flood"]["output"].startswith("$ python3 launcher.py --only ")


def test_a_test_that_ran_too_long_took_its_time(printing):
    folder = printing([], tests=["ebb"])
    folder.file("launcher.py", "import time\ntime.sleep(60)\n")
    run = folder.run("--timeout", "1s")
    assert run.outcomes == {"day.x#ebb": "timed out"}
    assert 1 <= run.results["day.x#ebb"]["seconds"] < 50


def test_what_only_the_launcher_knows_can_be_chosen_afterwards(printing):
    bridge = BRIDGE.replace('how = "joined"', 'how = "joined"\n    omit = "always"')
    lines = ["ebb fine", "flood fine", "loop_a wrong", "loop_b fine"]
    folder = printing(lines, code=1, bridge=bridge, others=["loop_a", "loop_b"])
    first = folder.run()
    assert first.results["day.x#loop_a"]["account"] == "added"
    assert list(folder.run("--status", "failed").outcomes) == ["day.x#loop_a"]
    assert list(folder.run("--name", "loop_a").outcomes) == ["day.x#loop_a"]
    retried = folder.run("day.x#loop_a", "--retries", "1")
    assert len(retried.results["day.x#loop_a"]["earlier"]) == 1
    assert folder.call("quarantine", "add", "day.x#loop_a", "--because", "tide").code == 0
    assert folder.run().code == 0
    gone = printing(["ebb fine", "flood fine"], bridge=bridge)
    assert gone.run().outcomes["day.x#loop_b"] == "errored"
    assert set(gone.run().outcomes) == {"day.x#ebb", "day.x#flood"}, "it is forgotten"


def test_events_with_keys_of_the_launchers_own(printing):
    keys = 'keys = { name = "check", outcome = "how", milliseconds = "took" }'
    outcomes = 'outcomes = { ok = "passed", bad = "failed" }'
    bridge = BRIDGE.partition("[read]")[0]
    bridge += f'[read]\n    format = "events"\n    {keys}\n    {outcomes}\n'
    said = [{"check": "ebb", "how": "ok", "took": 250}, {"check": "flood", "how": "bad"}]
    run = printing([f" {json.dumps(each)}" for each in said], code=1, bridge=bridge).run()
    assert run.outcomes == {"day.x#ebb": "passed", "day.x#flood": "failed"}
    assert run.results["day.x#ebb"]["seconds"] == 0.25
    printing([], bridge=bridge.replace('"passed"', '"pased"'))
    wrong = printing([], bridge=bridge.replace('"passed"', '"pased"')).call("list")
    assert (wrong.code, "'pased' is not an outcome; did you mean passed" in wrong.err) == (2, True)


def test_an_exit_code_alone_tells(folder):
    folder.file("wolfbane.toml", SUITE.replace("day.x", "checks"))
    folder.file(
        "b.toml",
        """
        about = "scripts"
        find = { files = ["*.sh"] }
        run = { command = ["sh", "{file}"], names = { how = "files" } }
        read = { format = "exit" }
    """,
    )
    for name, code in (("good", 0), ("bad", 1), ("odd", 7)):
        folder.file(f"checks/{name}.sh", f"echo {name} ran\nexit {code}\n")
    run = folder.run()
    outcomes = {"good": "passed", "bad": "failed", "odd": "errored"}
    assert run.outcomes == {f"checks/{name}.sh": how for name, how in outcomes.items()}
    assert run.results["checks/bad.sh"]["output"] == "bad ran\n"
    assert run.results["checks/odd.sh"]["message"] == "the launcher ended: exit code 7"


def test_names_are_given_one_way_and_read_another(printing):
    bridge = BRIDGE.replace('"{names}"]]', '"{names}"]]\n').replace(
        'how = "joined"', 'how = "joined"\n    name = "{stem}.{name}"'
    )
    bridge = bridge.replace('format = "lines"', 'format = "lines"\n    test = "{name}"')
    folder = printing(["ebb fine", "flood fine"], bridge=bridge)
    folder.file("launcher.py", LAUNCHER.replace('.split(",")', '.replace("day.", "").split(",")'))
    assert folder.run().outcomes == {"day.x#ebb": "passed", "day.x#flood": "passed"}


def test_check_runs_once_without_names(printing):
    folder = printing(["ebb fine", "flood wrong", "loop fine"], code=1, others=["loop"])
    folder.file("said.json", (folder.path / "said.json").read_text())
    checked = folder.call("bridge", "check", "b.toml")
    assert checked.code == 1, checked.out
    message = "1 tests that were not found run only if the launcher gets no names: day.x#loop"
    assert message in " ".join(checked.out.split())
    assert "run.names.omit = 'always'" in checked.text
    folder.file("b.toml", BRIDGE.replace('how = "joined"', 'how = "joined"\n    omit = "always"'))
    assert message in " ".join(folder.call("bridge", "check", "b.toml").out.split())


NAMES = ["high", "high water", "tides.high", "T1", "high (at noon)", "50% off", "is [free]", "a+b"]
BEFORE, AFTER = (
    ["", "  ", "[", "3. ", "check "],
    ["", " (tides)", " 12 ms", " (0.3 s)", " [a.py:3]"],
)


@given(
    st.sampled_from(NAMES),
    st.sampled_from(["ok", "PASSED", "not ok", "FAILED", "skipped", "✓", "✗"]),
    st.text(alphabet=" .:-=>|[]()*~", max_size=6).map(lambda marks: f" {marks} "),
    st.sampled_from(BEFORE),
    st.sampled_from(AFTER),
    st.booleans(),
    st.sampled_from(["", "tides"]),
)
def test_a_line_with_a_name_and_an_outcome_is_learnt(
    name, word, between, before, after, name_first, group
):
    message = vocabulary({})
    pair = (name, word) if name_first else (word, name)
    line = before + between.join(pair) + after
    outcome = message.outcome(word)
    every = line_patterns(line, [name], message, Path("/"), Parts(group))
    matches = [re.search(getattr(patterns, outcome), line) for patterns in every]
    assert name in {match["name"].strip() for match in matches if match}, line
