"""The program as a whole: the demo, its help, errors of the command line."""

from __future__ import annotations

import json
import subprocess
import sys

import pytest

from conftest import present
from wolfbane import __version__
from wolfbane.cli import root


@pytest.mark.skipif(
    not all(
        map(
            present,
            ("node", "cargo", "tclsh", "chromedriver", "firefox", "WebKitWebDriver", "Xvfb"),
        )
    ),
    reason="not every runtime is here",
)
def test_the_demo_shows_what_the_tool_shows(folder):
    run = folder.call("demo", "--into", "harbour")
    assert run.code == 0, run.err
    assert "left out     4 by leave_out tag:wip" in run.out
    assert "failed  tests/fees/test_fees.py#TwoHullsTest / test_catamaran_in_winter" in run.out
    assert "95 passed, 2 flaky, 3 failed, 4 skipped, 2 todo, 1 quarantined (1 failed)" in run.text
    again = folder.call("demo", "--into", "harbour")
    assert (again.code, "does not overwrite files" in again.err) == (2, True)
    folder.path /= "harbour"
    missed = folder.call("run", "--tag", "smok")
    assert (missed.code, "did you mean tag:smoke (18)?" in missed.err) == (3, True)
    smoke = json.loads(folder.call("list", "--tag", "smoke", "--as", "json").out)
    suites = {test["suite"] for test in smoke}
    assert suites == {
        "tides",
        "fees",
        "examples",
        "page",
        "page-specs",
        "tide-gauge",
        "rules",
        "quay-log",
        "gates",
        "ledger",
        "bookings",
        "workflows",
    }
    staging = subprocess.Popen(
        [sys.executable, "booking/service.py", "staging"], cwd=folder.path, stdout=subprocess.PIPE
    )
    assert staging.stdout is not None and b"8731" in staging.stdout.readline()
    both = folder.run("--preset", "everywhere", "--suite", "bookings")
    staging.terminate()
    staging.wait()
    address = "tests/bookings/test_bookings.py#BerthsTest / test_every_berth_has_a_depth"
    assert both.outcomes[f"{address} @local"] == "passed"
    assert both.outcomes[f"{address} @staging"] == "failed"
    assert folder.run("--env", "staging", "--suite", "bookings").code == 4
    machines = folder.run("--preset", "machines")
    assert (machines.code, len(machines.outcomes)) == (0, 6)
    everything = folder.run("--everything", "--drop", "tag:browser")
    assert list(everything.outcomes.values()).count("errored") == 0
    assert list(everything.outcomes.values()).count("failed") == 6


@pytest.mark.parametrize("command", [*root.list_commands(None)])
def test_help_has_an_example(folder, command):
    run = folder.call(command, "--help")
    assert run.code == 0
    usage, _, rest = run.out.partition("\n")
    assert f"wolfbane {command} " in usage
    assert f"  wolfbane {command}" in rest
    assert max(len(line) for line in run.out.splitlines()) <= 80


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["rnu"], "there is no command 'rnu'; did you mean run?"),
        (["run", "--tga", "x"], "--tga"),
        (["run", "--timeout", "soon"], "'soon' is not a duration"),
        (["run", "--seed", "5"], "--seed needs --order random"),
        (["run", "-w", "nowhere"], "does not exist"),
        (["show"], "no runs are recorded"),
    ],
)
def test_errors_of_the_command_line(folder, arguments, message):
    run = folder.call(*arguments)
    assert (run.code, message in run.err) == (2, True), run.err


def test_version(folder):
    assert folder.call("--version").out == f"wolfbane {__version__}\n"


LOADED = """
    import sys
    from wolfbane.cli import main
    sys.argv[0] = "wolfbane"
    try:
        main()
    finally:
        print([name for name in HEAVY if name in sys.modules])
"""


@pytest.mark.parametrize(
    ("command", "heavy"),
    [
        ("--version", "yaml rich pydantic psutil sqlalchemy matplotlib lxml asyncio"),
        ("list", "sqlalchemy matplotlib numpy lxml httpx aiohttp jinja2 pydantic"),
        ("run", "sqlalchemy matplotlib numpy lxml httpx aiohttp jinja2 pydantic"),
    ],
)
def test_what_takes_long_to_load_is_loaded_where_it_is_used(folder, command, heavy):
    folder.file("test_quay.py", "def test_quay():\n    pass\n")
    folder.file("loaded.py", LOADED.replace("HEAVY", repr(heavy.split())))
    told = subprocess.run(
        [sys.executable, "loaded.py", command],
        cwd=folder.path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert told.stdout.splitlines()[-1] == "[]", told.stdout + told.stderr
