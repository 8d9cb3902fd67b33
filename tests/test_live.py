"""``--live``: one test has the terminal, for the language's own debugger or whatever it asks."""

from __future__ import annotations

import json
import shutil
import subprocess

import pexpect
import pytest

from conftest import suite

TESTS = """
    import sys, time

    def test_talks():
        name = input("who? ")
        print("hello", name, sys.stdin.isatty())
        breakpoint()
        assert name == "Ebb"

    def test_waits():
        print("ready", flush=True)
        time.sleep(600)

    def test_secret():
        import os
        print("key", os.environ["KEY"])
"""
SETTINGS = "".join(
    [
        suite("quay", "python", "test_quay.py", timeout="0.01s"),
        suite("log", "tap", "ask.sh"),
        suite("page", "node", "page.test.mjs"),
        '[param.key]\nsecret = true\nexport = "KEY"\n',
    ]
)


@pytest.fixture
def quay(folder):
    folder.file("test_quay.py", TESTS)
    folder.file("wolfbane.toml", SETTINGS)
    folder.file(
        "ask.sh", 'echo 1..1; printf "boat? " >&2; read boat; [ "$boat" = ebb ] && echo ok\n'
    )
    folder.file("page.test.mjs", 'import test from "node:test";\ntest("a", () => {});\n')
    return folder


def talk(quay, *arguments):
    environment = {**quay.environment(), "TERM": "xterm", "COLUMNS": "120"}
    first, *rest = quay.command("run", *arguments, "--live", "--report", "json=out.json")
    return pexpect.spawn(
        first, rest, cwd=str(quay.path), env=environment, encoding="utf-8", timeout=60
    )


def test_a_test_talks_and_a_debugger_works(quay):
    child = talk(quay, "--name", "talks", "--set", "key=low-water")
    child.expect("the test uses this terminal and has no time limit")
    child.expect("who\\? ")
    child.sendline("Flow")
    child.expect("hello Flow True")
    for typed, answer in (("p name", "'Flow'"), ("name = 'Ebb'", ""), ("c", "1 test passed")):
        child.expect(r"\(Pdb\) ")
        child.sendline(typed)
        child.expect(answer)
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 0
    (result,) = json.loads((quay.path / "out.json").read_text())["results"]
    assert "hello Flow True\n" in result["output"]


def test_a_program_asks_and_the_keyboards_interrupt_is_for_the_test(quay):
    child = talk(quay, "ask.sh", "--set", "key=low-water")
    child.expect("boat\\? ")
    child.sendline("ebb")
    child.expect("1 test passed")
    child.close()
    child = talk(quay, "--name", "waits", "--set", "key=low-water")
    child.expect("ready")
    child.sendintr()
    child.expect("KeyboardInterrupt")
    child.expect("exit 1")
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus in (1, 130)


def test_input_from_a_pipe_and_secrets_that_stay_hidden(quay):
    def piped(name, typed):
        command = quay.command("run", "--name", name, "--live", "--set", "key=low-water")
        return subprocess.run(
            command,
            cwd=quay.path,
            env=quay.environment(),
            input=typed,
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )

    done = piped("talks", "Ebb\nc\n")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "hello Ebb True" in done.stdout
    secret = piped("secret", "")
    assert "key *****" in secret.stdout
    assert "low-water" not in secret.stdout


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["--suite", "quay"], "--live works with one test only, but 3 are selected"),
        pytest.param(
            ["--suite", "page"],
            "tests of kind node cannot use the terminal",
            marks=pytest.mark.skipif(not shutil.which("node"), reason="no node"),
        ),
    ],
)
def test_it_is_for_one_test_of_a_kind_that_can(quay, arguments, message):
    done = quay.run(*arguments, "--live", "--set", "key=low-water")
    assert (done.code, message in done.err) == (2, True), done.err
