"""Verdicts of launchers that crash, hang, hide tests, or have tests with the same name."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest
from benchmarks.launchers.draw import Drawn, bridge_of, write

PLAN = {
    "format": "lines",
    "printed": True,
    "late": False,
    "mode": "w",
    "fixed": False,
    "began": False,
    "section": "",
    "tells_file": False,
    "colours": False,
    "failed": 1,
    "call": "{name}",
    "how": "each",
}
NORTH, SOUTH = "checks/north/a.spec", "checks/south/a.spec"


def launcher(folder, tests, *, per="suite", where="", bridge=("", ""), **plan):
    """A workspace whose launcher runs these tests: ``FILE NAME OUTCOME``, in this order."""
    rows = [dict(zip(("file", "name", "does"), row, strict=True), group="") for row in tests]
    files = sorted({row["file"] for row in rows})
    plan = {**PLAN, **plan, "tests": rows, "files": files}
    text = bridge_of(plan, per, where).replace(*bridge)
    write(Drawn(rows, plan, text, per, bool(where)), folder.path)
    return folder


TWINS = [(SOUTH, "high", "failed"), (NORTH, "high", "passed"), (NORTH, "low", "passed")]
SWAPPED = {f"{SOUTH}#high": "failed", f"{NORTH}#high": "passed", f"{NORTH}#low": "passed"}


@pytest.mark.parametrize(
    ("where", "plan"),
    [
        ("{files}", {}),
        ("{folder}", {}),
        ("", {"section": "before"}),
        ("", {"section": "after"}),
        ("", {"tells_file": True}),
        ("", {"format": "xunit", "printed": False, "tells_file": True}),
    ],
)
def test_tests_with_the_same_name_keep_their_own_results(folder, where, plan):
    launcher(folder, TWINS, where=where, **plan)
    assert folder.run().outcomes == SWAPPED
    alone = folder.run(f"{NORTH}#high", "--run-time", "1m")
    assert alone.outcomes == {f"{NORTH}#high": "passed"}, alone.out


@pytest.mark.parametrize("asked", [(), (f"{NORTH}#high",)])
@pytest.mark.parametrize("per", ["test", "file", "suite"])
def test_a_result_that_may_be_of_two_tests_is_an_error(folder, per, asked):
    launcher(folder, TWINS, per=per)
    run = folder.run(*asked)
    assert run.outcomes[f"{NORTH}#high"] == "errored"
    message = "cannot be distinguished: the report has 2 results for 'high' (failed, passed)"
    assert run.results[f"{NORTH}#high"]["message"].startswith(message)
    if per == "suite" and not asked:
        checked = folder.call("bridge", "check", "bridge.toml")
        assert (checked.code, "cannot be distinguished" in checked.text) == (1, True)


def test_a_test_that_was_not_selected_is_not_taken_for_one_that_was(folder):
    launcher(folder, TWINS, where="{files}")
    folder.run()
    run = folder.run(f"{SOUTH}#high", f"{NORTH}#low")
    assert run.outcomes == {f"{SOUTH}#high": "failed", f"{NORTH}#low": "passed"}, run.out


def test_a_crash_before_the_line_with_the_file_mixes_no_results(folder):
    tests = [
        (NORTH, "low", "passed"),
        (SOUTH, "high", "skipped"),
        (SOUTH, "bad", "crash"),
        (NORTH, "high", "failed"),
        ("checks/west/a.spec", "low", "passed"),
    ]
    launcher(folder, tests, where="{files}", section="after", format="lines", printed=False)
    wanted = {
        f"{file}#{name}": "crashed" if does == "crash" else does for file, name, does in tests
    }
    assert folder.run().outcomes == wanted
    assert folder.run().outcomes == wanted


def test_twins_of_a_cut_report_run_again(folder):
    west = "checks/west/a.spec"
    tests = [
        (NORTH, "high", "failed"),
        (NORTH, "bad", "crash"),
        (SOUTH, "high", "passed"),
        (west, "high", "passed"),
    ]
    launcher(folder, tests, section="after", printed=False)
    assert folder.run().outcomes == {
        f"{file}#{name}": "crashed" if does == "crash" else does for file, name, does in tests
    }


def test_the_launcher_tells_which_twin_was_running_in_a_crash(folder):
    tests = [(NORTH, "high", "crash"), (SOUTH, "high", "passed")]
    launcher(folder, tests, section="before", began=True, where="{files}")
    wanted = {f"{NORTH}#high": "crashed", f"{SOUTH}#high": "passed"}
    assert folder.run().outcomes == wanted
    assert folder.run().outcomes == wanted


def test_results_that_are_all_the_same_are_known(folder):
    launcher(folder, [(SOUTH, "high", "failed"), (NORTH, "high", "failed")])
    assert set(folder.run().outcomes.values()) == {"failed"}


def test_a_package_on_its_own_line_distinguishes_tests(folder):
    tests = [(SOUTH, "high", "failed"), (NORTH, "high", "passed")]
    old = r"section_end = '^-- (?P<file>.*)'"
    new = r"section_end = '^-- (?P<package>.*)/a.spec'"
    launcher(folder, tests, section="after", bridge=(old, new))
    assert folder.run().outcomes == {f"{SOUTH}#high": "failed", f"{NORTH}#high": "passed"}


@pytest.mark.parametrize("plan", [{}, {"began": True}, {"late": True}, {"format": "tap"}])
@pytest.mark.parametrize(("does", "outcome"), [("crash", "crashed"), ("hang", "timed out")])
def test_a_crash_or_a_hang_costs_one_test(folder, plan, does, outcome):
    names = ["one", "two", "bad", "three", "four"]
    tests = [(NORTH, name, does if name == "bad" else "passed") for name in names]
    launcher(folder, tests, **plan)
    run = folder.run("--timeout", "500ms", "--retries", "1", "--drop", "name:four")
    wanted = {f"{NORTH}#{name}": "passed" for name in names[:-1]}
    assert run.outcomes == {**wanted, f"{NORTH}#bad": outcome}, run.out
    attempts = {a.partition("#")[2]: r["attempt"] for a, r in run.results.items()}
    assert attempts == {"one": 1, "two": 1, "bad": 2, "three": 1}, "a new start is no retry"


@pytest.mark.parametrize(("per", "where"), [("suite", ""), ("file", "{file}"), ("test", "{file}")])
def test_a_test_that_was_not_found_runs_and_is_named(folder, per, where):
    tests = [(NORTH, "high", "passed"), (NORTH, "made in a loop", "failed")]
    launcher(folder, tests, per=per, where=where, tells_file=True)
    address = f"{NORTH}#made in a loop"
    first = folder.run()
    assert (first.code, first.outcomes) == (1, {f"{NORTH}#high": "passed", address: "failed"})
    assert first.results[address]["account"] == "added"
    assert f"a test that was not found before the run: {address}" in " ".join(first.out.split())
    assert folder.run().outcomes == first.outcomes
    assert folder.run("--name", "loop").outcomes == {address: "failed"}


@pytest.mark.parametrize("how", ["os.abort()", "os._exit(1)"])
def test_a_crash_that_no_test_repeats_alone_is_no_success(folder, how):
    tests = [(NORTH, "one", "passed"), (NORTH, "two", "passed")]
    launcher(folder, tests, bridge=('how = "each"', 'how = "each"\nomit = "never"'))
    program = (folder.path / "launcher.py").read_text()
    begin = "        report.begin(test)\n"
    assert begin in program
    crash = f'        report.done and test["name"] == "two" and {how}\n'
    (folder.path / "launcher.py").write_text(program.replace(begin, begin + crash))
    run = folder.run()
    assert run.code == 1, run.out
    assert run.outcomes == {f"{NORTH}#one": "passed", f"{NORTH}#two": "passed", NORTH: "errored"}


@pytest.mark.parametrize("per", ["test", "suite"])
def test_a_launcher_that_runs_all_names_with_a_prefix(folder, per):
    tests = [(NORTH, "fog", "passed"), (NORTH, "foggy", "failed"), (NORTH, "low", "passed")]
    launcher(folder, tests, per=per, bridge=('how = "each"', 'how = "each"\nomit = "never"'))
    program = (folder.path / "launcher.py").read_text()
    exact = "called(test) not in names"
    assert exact in program
    prefix = "not any(called(test).startswith(n) for n in names)"
    (folder.path / "launcher.py").write_text(program.replace(exact, prefix))
    outcomes = {f"{NORTH}#{name}": does for _, name, does in tests}
    assert folder.run().outcomes == outcomes
    unasked = folder.run(f"{NORTH}#fog")
    assert unasked.results[f"{NORTH}#foggy"]["account"] == "unasked"


def test_an_unknown_test_without_a_file_runs_every_time(folder):
    tests = [(NORTH, "high", "passed"), (SOUTH, "low", "passed"), (SOUTH, "inherited", "failed")]
    launcher(folder, tests)
    for _ in range(2):
        assert folder.run().outcomes["bridge.toml#inherited"] == "failed"


def test_a_launcher_is_compared_once_for_each_state_of_the_sources(folder):
    tests = [(NORTH, "high", "passed"), (NORTH, "low", "passed")]
    launcher(folder, tests, per="test", where="{file}")
    starts = folder.path / "account.jsonl"
    counts = []
    for change in (False, False, True, False):
        starts.unlink(missing_ok=True)
        if change:
            source = folder.path / NORTH
            source.write_text(source.read_text() + "# neap\n")
        assert folder.run().code == 0
        counts.append(len(starts.read_text().splitlines()))
    assert counts == [4, 2, 4, 2], "two tests, and once more in a start without names"


def test_a_run_without_tests_that_are_left_out_is_whole(folder):
    tests = [(NORTH, "high", "passed"), (NORTH, "low", "passed"), (NORTH, "inherited", "failed")]
    launcher(folder, tests, tells_file=True)
    settings = folder.path / "wolfbane.toml"
    settings.write_text(settings.read_text().replace("\n", '\nleave_out = "name:low"\n', 1))
    outcomes = {f"{NORTH}#high": "passed", f"{NORTH}#inherited": "failed"}
    assert folder.run("--suite", "drawn").outcomes == outcomes
    assert list(folder.run("--name", "high").outcomes) == [f"{NORTH}#high"]


@pytest.mark.parametrize("omit", ["never", "after changes"])
def test_a_launcher_that_needs_names(folder, omit):
    launcher(
        folder,
        [(NORTH, "high", "passed")],
        bridge=('how = "each"', f'how = "each"\nomit = "{omit}"'),
    )
    program = (folder.path / "launcher.py").read_text()
    program = program.replace(
        "    report = Report(folder)\n", "    report = Report(folder)\n    names or sys.exit(2)\n"
    )
    (folder.path / "launcher.py").write_text(program)
    run = folder.run()
    assert (run.code, run.outcomes) == (0, {f"{NORTH}#high": "passed"}), run.out
    told = " ".join(run.out.split())
    never = "tests of the launcher that were not found do not run"
    warned = "without names, the launcher reported no test (exit code 2)"
    assert (never in told, warned in told) == (omit == "never", omit != "never")


def test_an_old_report_that_begins_like_the_new_one_is_not_read(folder):
    tests = [(NORTH, "high", "passed"), (NORTH, "low", "passed")]
    launcher(folder, tests, format="events", printed=False, fixed=True)
    for _ in range(3):
        assert folder.run("--name", "high").outcomes == {f"{NORTH}#high": "passed"}
        assert folder.run().outcomes == {f"{NORTH}#high": "passed", f"{NORTH}#low": "passed"}
    (folder.path / "launcher.py").write_text("")
    before = (folder.path / "told.txt").read_text()
    run = folder.run()
    assert set(run.outcomes.values()) == {"errored"}
    assert (folder.path / "told.txt").read_text() == before, "it was put back"


def test_drawn_launchers_have_the_verdicts_of_the_draw():
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks.launchers", "--seed", "4711", "--count", "5"],
        cwd=Path(__file__).parent.parent,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, f"{done.stdout}{done.stderr}"
    assert "5 launchers" in done.stdout and "0 launchers with differences" in done.stdout
