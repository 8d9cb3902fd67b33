"""The bridges that come with it: they hold, and what is broken in them is told by a line."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

import wolfbane.demo
from bridged import example
from conftest import present

HARBOUR = Path(wolfbane.demo.__file__).parent / "harbour"


LAUNCHERS = {
    "tcl-package": "tclsh",
    "tcl-listed": "tclsh",
    "stations": "perl",
    "manifests": "node",
    "pumps": "sh",
}


@pytest.mark.skipif(not present("tclsh"), reason="tclsh is not here")
def test_a_launcher_that_nobody_planned_for_takes_one_file(folder):
    run = example(folder, "tcl-package").run()
    assert run.outcomes == {
        "tests/berths.test#share-1.1": "passed",
        "tests/berths.test#share-1.2": "passed",
        "tests/berths.test#share-2.1": "failed",
        "tests/berths.test#share-3.1": "skipped",
        "tests/gauge.test#gauge-1.1": "passed",
        "tests/gauge.test#gauge-1.2": "failed",
    }
    assert "---- Result was:\n1.0\n" in run.results["tests/berths.test#share-2.1"]["output"]
    assert list(folder.run("--category", "billing").outcomes.values()) == ["passed"] * 2
    assert list(folder.run("tests/gauge.test:6").results) == ["tests/gauge.test#gauge-1.1"]
    (folder.path / "tests" / "gauge.test").write_text("test gauge-1.1 {cut short\n")
    broken = folder.run("tests/gauge.test")
    assert list(broken.outcomes.values()) == ["errored"]


@pytest.mark.skipif(not present("tclsh"), reason="tclsh is not here")
def test_computed_names_are_listed_by_the_language_itself(folder):
    computed = example(folder, "tcl-listed")
    fenders = "tests/fenders.test#fenders"
    assert computed.run().outcomes == {
        f"{fenders}-6": "passed",
        f"{fenders}-12": "passed",
        f"{fenders}-20": "passed",
        f"{fenders}-none": "failed",
    }
    assert list(computed.run("--name", "fenders-12").results) == [f"{fenders}-12"]


@pytest.mark.parametrize(
    ("name", "told"),
    [
        (
            "tcl-package",
            (
                "found 6 tests in 2 files",
                "tags category=billing, smoke",
                "2 tests: passed",
                "share-2.1: failed; no other test ran",
            ),
        ),
        ("tcl-listed", ("found 4 tests in 1 file", "fenders-none: failed; no other test ran")),
        ("stations", ("found 5 tests in 1 file", "2 tests: passed", "falls by a third: failed")),
        (
            "manifests",
            (
                "found 4 tests in 1 file",
                "tags category=cargo, owner=quay",
                "needs no ice pilot: failed; no other test ran",
            ),
        ),
        ("pumps", ("found 3 tests in 3 files", "tags smoke", "south.pump: failed")),
    ],
)
def test_the_examples_hold(folder, name, told):
    if not present(LAUNCHERS[name]):
        pytest.skip(f"{LAUNCHERS[name]} is not here")
    checked = example(folder, name).call("bridge", "check", "bridge.toml")
    assert checked.code == 0, checked.out
    said = " ".join(checked.out.split())
    for message in (
        *told,
        "all tests that were found have a result",
        "the exit code agrees with the report",
        "no problems found",
    ):
        assert message in said
    assert not (folder.path / ".wolfbane" / "runs").exists()


@pytest.mark.parametrize(
    ("name", "old", "new", "message"),
    [
        ("tcl-package", 'option = "-match"', 'option = "-constraints"', "also ran, although only"),
        ("tcl-package", "PASSED$'", "PAST$'", "share-1.1 and 2 more: no result was reported"),
        (
            "tcl-package",
            "failed = [0, 1]",
            "failed = [1]",
            "failed in the report, but the exit code",
        ),
        ("tcl-package", "test\\s+", "proof\\s+", "no tests were found"),
        ("tcl-package", '"tclsh", ', '"tclsh", "no.tcl", ', "no result was reported (exit code 1)"),
        (
            "stations",
            'dialect = "pcre"',
            'whole = "{}"\ndialect = "glob"',
            "and 1 more: the launcher wrote no report",
        ),
        (
            "stations",
            'name = "{group}/{name}"\n\n',
            'name = "{group}-{name}"\n\n',
            "wrote no report",
        ),
        ("manifests", 'name = "{suite} > {name}"', 'name = "{name}"', "no result was reported"),
        ("pumps", 'format = "tap"', 'format = "xunit"', "not well-formed XML"),
    ],
)
def test_a_broken_bridge_is_told_by_a_line(folder, name, old, new, message):
    if not present(LAUNCHERS[name]):
        pytest.skip(f"{LAUNCHERS[name]} is not here")
    checked = example(folder, name, old, new).call("bridge", "check", "bridge.toml")
    assert checked.code == 1, checked.out + checked.err
    told = " ".join(checked.out.split())
    assert message in told and "wrong" in told


def test_a_bridge_that_no_suite_names(ledger):
    ledger.file("other.toml", "")
    refused = ledger.call("bridge", "check", "other.toml")
    assert (refused.code, "no suite uses the bridge other.toml" in refused.err) == (2, True)


@pytest.mark.skipif(not present("tclsh"), reason="tclsh is not here")
def test_the_ledger_of_the_demo_answers_like_every_kind(folder):
    shutil.copytree(HARBOUR, folder.path / "harbour")
    folder.path = folder.path / "harbour"
    checked = folder.call("bridge", "check", "ledger/bridge.toml")
    assert (checked.code, "no problems found" in checked.out) == (0, True), checked.out
    fuel = "ledger/books/fuel.book#fuel / "
    litres, nothing = f"{fuel}30 litres of diesel at 1.45", f"{fuel}nothing pumped is refused"
    only = ("--suite", "ledger")
    both = folder.run(*only, "--tag", "smoke").outcomes
    night = "ledger/books/berths.book#berths / a night is charged once"
    assert both == {night: "passed", litres: "passed"}
    assert len(folder.run(*only, "--category", "billing").outcomes) == 4
    assert list(folder.run(*only, "--name", "refused").outcomes) == [nothing]
    assert list(folder.run("ledger/books/fuel.book:8").outcomes) == [litres]
    assert len(folder.run("ledger/books/fuel.book:5").outcomes) == 3
    assert list(folder.run(*only, "--pick", "owner:quay and not tag:smoke").outcomes) == [
        nothing,
        f"{fuel}a card of the Rock & Oar is taken",
    ]
    told = folder.call("explain", "ledger/books/fuel.book:13", "--tag", "smoke").out
    assert nothing in told and "tag:smoke" in told and "not selected" in told
    unfinished = folder.run(*only, "--everything", "--tag", "wip")
    [failed] = unfinished.results.values()
    assert failed["message"] == "Heron owes 185.00 crowns, not 166.50"
    assert failed["output"].count("Heron is charged 18.50") == 10


@pytest.mark.skipif(not present("tclsh"), reason="tclsh is not here")
@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('name = "{group}/{name}"\n\n[read]', 'name = "{name}"\n\n[read]', "and 6 more: no result"),
        (
            "failed = [4]",
            "failed = [1]",
            "the launcher ended unexpectedly (exit code 4), although its report is complete",
        ),
        ('option = "-only"', 'option = "-marked"', "no result was reported"),
        ('per = "suite"', 'per = "file"', ""),
    ],
)
def test_the_demos_bridge_broken(folder, old, new, message):
    shutil.copytree(HARBOUR, folder.path / "harbour")
    folder.path = folder.path / "harbour"
    bridge = folder.path / "ledger" / "bridge.toml"
    assert old in bridge.read_text()
    bridge.write_text(bridge.read_text().replace(old, new))
    checked = folder.call("bridge", "check", "ledger/bridge.toml")
    assert (checked.code, message in " ".join(checked.out.split())) == (1 if message else 0, True)


ANSWERS = {
    "stations": [
        "*.stations",
        "lines",
        "reading",
        'reading "NAME"',
        'station "NAME"',
        "[TAG]",
        "perl 'reader.pl",
        "perl reader.pl --matching={names} --into={scratch} {file}",
        "pattern",
        "{group}/{name}",
        "3",
        "xunit",
        "{scratch}/*.xml",
    ],
    "pumps": [
        "*.pump",
        "files",
        "sh checker.sh {file}",
        "1",
        "tap",
    ],
}


@pytest.mark.parametrize("name", ["stations", "pumps"])
def test_a_few_answers_make_a_bridge_that_holds(folder, name):
    if not present(LAUNCHERS[name]):
        pytest.skip(f"{LAUNCHERS[name]} is not here")
    example(folder, name)
    there = folder.call("bridge", "new", "bridge.toml")
    assert (there.code, "the file already exists" in there.err) == (2, True)
    (folder.path / "bridge.toml").unlink()
    cut_short = folder.call("bridge", "new", "bridge.toml", answers=ANSWERS[name][:3])
    assert (cut_short.code, (folder.path / "bridge.toml").exists()) == (130, False)
    made = folder.call("bridge", "new", "bridge.toml", answers=ANSWERS[name])
    assert (made.code, "wolfbane bridge check bridge.toml" in made.out) == (0, True), made.err
    checked = folder.call("bridge", "check", "bridge.toml")
    assert (checked.code, "all tests that were found have a result" in checked.out) == (0, True)
