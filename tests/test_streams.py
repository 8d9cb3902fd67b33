"""The console is one listener: whatever becomes of it, the run goes on and is recorded whole."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess

import pytest

PLACES = {
    "a reader that leaves": "{run} 2>errors | head -n 1",
    "a full disk": "{run} >/dev/full 2>errors",
    "closed": "{run} >&- 2>errors",
}


@pytest.fixture
def quay(folder):
    folder.file("test_quay.py", "def test_ä(): assert 'höhe' == 'tiefe', '↑'\ndef test_b(): pass\n")
    return folder


def shell(folder, line, **environment):
    run = " ".join([*folder.command("run"), "--report json=out.json"])
    return subprocess.run(
        ["bash", "-c", line.format(run=f"({run}; echo $? >code)")],
        cwd=folder.path,
        check=False,
        env={**folder.environment(), **environment},
        capture_output=True,
        timeout=60,
    )


@pytest.mark.parametrize("closed", PLACES)
def test_a_run_goes_on_without_standard_output(quay, closed):
    shell(quay, PLACES[closed])
    assert (quay.path / "code").read_text() == "1\n"
    errors = (quay.path / "errors").read_text()
    assert "standard output" in errors and "Traceback" not in errors
    assert len(json.loads((quay.path / "out.json").read_text())["results"]) == 2
    assert "1 passed, 1 failed" in quay.call("show").out


@pytest.mark.parametrize(
    "variables",
    [
        {"PYTHONIOENCODING": "ascii"},
        {"PYTHONIOENCODING": "latin-1"},
        {"LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"},
    ],
)
def test_what_an_encoding_does_not_have_is_replaced(quay, variables):
    done = shell(quay, "{run}", **variables)
    assert (quay.path / "code").read_text() == "1\n", done.stderr
    assert b"1 passed, 1 failed" in done.stdout and b"tiefe" in done.stdout
    assert not done.stderr
    assert shell(quay, " ".join(quay.command("list")), **variables).returncode == 0


def test_other_commands_say_it_in_one_line(quay):
    quay.run()
    for command in ("list", "history", "show", "doctor"):
        line = " ".join(quay.command(command))
        done = shell(quay, f"{line} >/dev/full")
        assert done.stderr.decode() == "wolfbane: [Errno 28] No space left on device\n", command


@pytest.mark.parametrize("after", [0.0, 0.02, 0.05, 0.1, 0.2])
def test_an_interrupt_at_the_start_prints_no_traceback(quay, after):
    quay.file("test_quay.py", "import time\ntime.sleep(600)\ndef test_a(): pass\n")
    process = subprocess.Popen(
        quay.command("run"),
        cwd=quay.path,
        env=quay.environment(),
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    # Not a wait for anything: wherever it is by then, it has to end quietly.
    with pytest.raises(subprocess.TimeoutExpired):
        process.communicate(timeout=after + 0.05)
    os.kill(process.pid, signal.SIGINT)
    try:
        out, errors = process.communicate(timeout=30)
    finally:
        process.kill()
    # On a busy machine the interpreter may not have come to the program yet: then its words and its
    # exit code (1 while it reads its site) are its own.
    too_early = not out and re.search(rb'__main__.py", line \d+, in main', errors) is None
    assert b"Traceback" not in out + errors or too_early
    codes = (130, -signal.SIGINT, 1) if too_early else (130, -signal.SIGINT)
    assert process.returncode in codes, out + errors
