"""Shell completion, tried in real shells."""

from __future__ import annotations

import os
import re
import shutil
import sys
from pathlib import Path

import pexpect
import pytest

HERE = Path(sys.executable).parent
SETTINGS = """
[[suite]]
name = "tides"
kind = "python"
paths = ["t"]
[env.local]
[env.staging]
[param.machine]
type = "choice"
choices = ["quay1", "quay2"]
default = "quay1"
[param.api.token]
secret = true
[preset.nightly]
arguments = ["--tag", "slow"]
"""
TESTS = """
import unittest
class High(unittest.TestCase):
    # tags: smoke, category=billing
    def test_spring(self): pass
    # tags: slow
    def test_neap(self): pass
"""
SHELLS = {
    "bash": (["--norc", "--noprofile", "-i"], 'PS1="> "'),
    "zsh": (["-f", "-i"], 'PS1="> "; autoload -U compinit; compinit -u; setopt no_beep'),
}


@pytest.fixture
def quay(folder):
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("t/test_tides.py", TESTS)
    folder.file("tides/notes.txt", "a folder with the name of a suite")
    assert folder.call("list").code == 0
    return folder


@pytest.fixture(params=SHELLS)
def shell(request, quay):
    if shutil.which(request.param) is None:
        pytest.skip(f"{request.param} is not here")
    arguments, setup = SHELLS[request.param]
    environment = {**os.environ, "PATH": f"{HERE}:{os.environ['PATH']}", "TERM": "dumb"}
    child = pexpect.spawn(
        request.param, arguments, cwd=quay.path, env=environment, encoding="utf-8", timeout=30
    )
    child.setwinsize(40, 200)
    child.sendline(f"{setup}; eval \"$(wolfbane completion {request.param})\"; echo rea''dy")
    child.expect("ready\r\n")
    yield child
    child.close(force=True)


def completed(shell, typed):
    """The line after a tab, as the shell itself would run it: its words, one by one."""
    shell.send(f"{typed}\t")
    shell.send("\x01printf '<%s>' \x05; echo do''ne\r")
    shell.expect("done\r\n")
    return re.findall(r"<([^<>]*)>", shell.before.rpartition("\n")[2])


@pytest.mark.parametrize(
    ("typed", "message"),
    [
        ("wolfbane pres", ["wolfbane", "preset"]),
        ("wolfbane run --suite ti", ["wolfbane", "run", "--suite", "tides"]),
        ("wolfbane run --tag smoke,sl", ["wolfbane", "run", "--tag", "smoke,slow"]),
        ("wolfbane run --env local,st", ["wolfbane", "run", "--env", "local,staging"]),
        ("wolfbane run --set machine=quay1 --pres", None),
        ("wolfbane run --preset ni", ["wolfbane", "run", "--preset", "nightly"]),
        ("wolfbane run --category bi", ["wolfbane", "run", "--category", "billing"]),
        ("wolfbane run t/te", ["wolfbane", "run", "t/test_tides.py"]),
        ("wolfbane run --suite t", ["wolfbane", "run", "--suite", "tides"]),
        (
            "wolfbane run --tag smoke --tag s",
            ["wolfbane", "run", "--tag", "smoke", "--tag", "slow"],
        ),
        ("wolfbane run --tag slow,s", ["wolfbane", "run", "--tag", "slow,smoke"]),
        ("wolfbane run --pick 'tag:sl", ["wolfbane", "run", "--pick", "tag:slow"]),
        ("wolfbane run --pick 'not tag:sm", ["wolfbane", "run", "--pick", "not tag:smoke"]),
        ("wolfbane run --report xu", ["wolfbane", "run", "--report", "xunit="]),
        ("wolfbane run --report html=wolf", ["wolfbane", "run", "--report", "html=wolfbane.toml"]),
        ("wolfbane run -w tid", ["wolfbane", "run", "-w", "tides/"]),
        ("wolfbane bridge check wo", ["wolfbane", "bridge", "check", "wolfbane.toml"]),
        (
            "wolfbane run 't/test_tides.py#High / test_s",
            ["wolfbane", "run", "t/test_tides.py#High / test_spring"],
        ),
        (
            r"wolfbane explain t/test_tides.py#High\ /\ test_n",
            ["wolfbane", "explain", "t/test_tides.py#High / test_neap"],
        ),
    ],
)
def test_shells_complete_the_words_of_the_workspace(shell, typed, message):
    message = message or ["wolfbane", "run", "--set", "machine=quay1", "--preset"]
    assert completed(shell, typed) == message
