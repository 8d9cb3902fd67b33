"""Options after ``--``: passed to the runtime, program or launcher of the chosen suites."""

from __future__ import annotations

import json

import pytest

from conftest import present, suite

SUITES = "".join(
    [
        suite("tides", "python", "tides"),
        suite("page", "node", "page"),
        suite("log", "tap", "log/*.sh"),
        suite("checks", "program", "checks", arguments=["first"]),
        suite("rules", "scenario", "rules"),
        suite("old", "bridge", "old", bridge="old.toml"),
    ]
)
BRIDGE = """
    about = "the old launcher"
    [find]
    files = ["*.txt"]
    [run]
    command = ["./launch", "EXTRA", "{names}"]
    names = { how = "files" }
    [read]
    format = "tap"
"""


@pytest.fixture
def quay(folder):
    folder.file("wolfbane.toml", SUITES)
    folder.file(
        "tides/test_mode.py", "import sys\ndef test_dev():\n    assert sys.flags.dev_mode\n"
    )
    folder.file(
        "page/gc.test.mjs",
        """
        import test from "node:test";
        test("collects", () => globalThis.gc());
    """,
    )
    folder.file("log/echo.sh", 'echo 1..1; [ "$*" = "--deep 2" ] && echo ok 1\n')
    folder.file("checks/look.sh", '[ "$*" = "first --deep 2" ]\n', 0o755)
    folder.file("rules/quay.feature", "Feature: q\n  Scenario: s\n    Given nothing\n")
    folder.file("old/a.txt", "")
    folder.file("old.toml", BRIDGE.replace("EXTRA", "{extra}"))
    folder.file("launch", '#!/bin/sh\necho 1..1; [ "$1 $2" = "--deep 2" ] && echo ok 1\n', 0o755)
    return folder


@pytest.mark.parametrize(
    ("suite", "options"),
    [
        ("tides", ["-X", "dev"]),
        pytest.param(
            "page",
            ["--expose-gc"],
            marks=pytest.mark.skipif(not present("node"), reason="node is not installed"),
        ),
        ("log", ["--deep", "2"]),
        ("checks", ["--deep", "2"]),
        ("old", ["--deep", "2"]),
    ],
)
def test_options_reach_the_suite_they_are_for(quay, suite, options):
    without = quay.run("--suite", suite)
    assert without.code == 1, without.out
    done = quay.run("--suite", suite, "--", *options)
    assert (done.code, set(done.outcomes.values())) == (0, {"passed"}), done.out
    assert f"{' '.join(options)}  passed to {suite}" in done.out
    started = json.loads((quay.path / "report.json").read_text())["started"]
    assert (started["passed_on"], started["options_for"]) == (options, [suite])
    failed = quay.run("--suite", suite, "--pass-on=-3" if suite == "log" else "--no-such-option")
    assert failed.code != 0


def test_the_command_to_repeat_a_test_and_presets_have_them(quay):
    failed = quay.run("log", "--", "--deep", "3")
    assert "wolfbane run --pass-on=--deep --pass-on=3 log/echo.sh" in failed.out
    quay.call("preset", "save", "deep", "--", "--suite", "log", "--", "--deep", "2")
    assert quay.run("--preset", "deep").code == 0
    printed = quay.call("run", "--suite", "log", "--print-command", "--", "--deep", "2")
    assert printed.out.strip() == "wolfbane run --suite log --pass-on=--deep --pass-on=2"


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (
            ["--suite", "rules", "--", "-x"],
            "cannot pass -x to suite 'rules': suites of kind scenario",
        ),
        (["--suite", "tides,log", "--", "-x"], "have 2 kinds (python, tap); choose the suites"),
        (
            ["--suite", "log", "--options-for", "log"],
            "--options-for needs options to pass; add them after --",
        ),
        (["--suite", "log", "--options-for", "lug", "--", "-x"], "'lug' is not in this run; did"),
        (["--suite", "log", "--options-for", "tides", "--", "-x"], "'tides' is not in this run"),
    ],
)
def test_options_that_nobody_takes_are_refused(quay, arguments, message):
    done = quay.run(*arguments)
    assert (done.code, message in done.err) == (2, True), done.err


def test_a_bridge_says_where_options_go(quay):
    quay.file("old.toml", BRIDGE.replace("EXTRA", "always"))
    done = quay.run("--suite", "old", "--", "--deep")
    assert (done.code, "old.toml has no {extra} in 'command'" in done.err) == (2, True)
    two = quay.run("--suite", "log,checks", "--options-for", "log", "--", "--deep", "2")
    assert two.outcomes == {"log/echo.sh": "passed", "checks/look.sh": "failed"}
