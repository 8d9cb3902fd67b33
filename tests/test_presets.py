"""Presets: saved, built upon, deleted, refused; and runs printed as a line for a shell."""

from __future__ import annotations

import re
import subprocess

import pytest
from hypothesis import given as for_any
from hypothesis import settings
from hypothesis import strategies as st

from wolfbane.cli.options.quoting import quoted

SETTINGS = """
# kept as it is
[[suite]]
name = "tides"
kind = "python"
paths = ["t"]   # and this

[param.machine]
default = "quay1"
export = "MACHINE"

[param.token]
secret = true
"""
TESTS = """
import os
def test_machine(): print(os.environ["MACHINE"])
# tags: slow
def test_slow(): pass
"""


@pytest.fixture
def quay(folder, monkeypatch):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(folder.path / "config"))
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("t/test_a.py", TESTS)
    return folder


def save(quay, *arguments):
    run = quay.call("preset", "save", *arguments)
    assert run.code == 0, run.err
    return run.out


def test_a_preset_builds_on_another_and_is_added_to(quay):
    save(quay, "base", "--", "--set", "machine=quay2", "--jobs", "1")
    save(quay, "nightly", "--help-text", "every night", "--", "--preset", "base", "--drop", "slow")
    run = quay.run("--preset", "nightly")
    assert list(run.outcomes) == ["t/test_a.py#test_machine"] and "1 job" in run.out
    assert run.results["t/test_a.py#test_machine"]["output"] == "quay2\n"
    run = quay.run("--preset", "nightly", "--set", "machine=quay3", "--jobs", "2")
    assert run.results["t/test_a.py#test_machine"]["output"] == "quay3\n" and "2 jobs" in run.out
    whole = "wolfbane run --set machine=quay2 --jobs 1 --drop slow"
    assert whole in quay.call("preset", "show", "nightly").out
    assert "every night" in quay.call("preset", "list").out
    assert quay.call("preset", "delete", "nightly").code == 0
    text = (quay.path / "wolfbane.toml").read_text()
    assert SETTINGS.lstrip() in text and "nightly" not in text and "[preset.base]" in text


def test_personal_presets_and_files_of_arguments(quay):
    assert "presets.toml" in save(quay, "mine", "--personal", "--", "--name", "slow")
    assert list(quay.run("--preset", "mine").outcomes) == ["t/test_a.py#test_slow"]
    quay.file("my.args", "# what I look at\n--name\n  'machine'  # this one\n")
    assert list(quay.run("--preset", "my.args").outcomes) == ["t/test_a.py#test_machine"]
    assert (quay.path / "wolfbane.toml").read_text() == SETTINGS.lstrip()


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["run", "--preset", "nigtly"], "there is no preset 'nigtly'; did you mean nightly?"),
        (["preset", "save", "x", "--", "--jobz", "1"], "there is no option '--jobz'"),
        (["preset", "save", "x", "--", "--jobs", "none"], "'none' is not a valid integer"),
        (["preset", "save", "x"], "no arguments"),
        (["preset", "save", "nightly", "--", "t"], "preset 'nightly' already exists"),
        (["preset", "save", "x", "--", "--set", "token=abc"], "'token' is a secret"),
        (["run", "--preset", "round"], "preset 'round' includes itself"),
        (["run", "--preset", "wrong"], "preset 'wrong': there is no option '--jobz'"),
    ],
)
def test_what_is_wrong_with_a_preset(quay, arguments, said):
    presets = {"nightly": ["t"], "round": ["--preset", "round"], "wrong": ["--jobz"]}
    text = "".join(f"[preset.{name}]\narguments = {value}\n" for name, value in presets.items())
    quay.file("wolfbane.toml", SETTINGS + text)
    before = (quay.path / "wolfbane.toml").read_text()
    run = quay.call(*arguments)
    assert run.code == 2 and said in run.err, run.err
    assert (quay.path / "wolfbane.toml").read_text() == before


def test_a_run_is_printed_as_a_line_that_repeats_it(quay):
    save(quay, "nightly", "--", "--name", "it's slow", "-j", "1")
    run = quay.call("run", "--preset", "nightly", "t", "--print-command")
    assert run.out == """wolfbane run --name 'it'"'"'s slow' -j 1 t\n"""
    secret = quay.call("run", "--set", "token=spring77", "--print-command", "--shell", "cmd")
    assert "spring77" not in secret.out and "masked" in secret.err


def test_a_command_is_printed_without_any_side_effect(folder):
    folder.file(
        "wolfbane.toml",
        """
        [workspace]
        env = "local"
        [[suite]]
        name = "tides"
        kind = "python"
        paths = ["test_a.py"]
        build = ["touch built"]
        [param.key]
        [env.local]
        key = { shell = "touch looked-up; echo low" }
    """,
    )
    folder.file("test_a.py", "open('loaded', 'w').close()\ndef test_a(): pass\n")
    before = sorted(path.name for path in folder.path.iterdir())
    assert folder.call("run", "--print-command").out == "wolfbane run\n"
    assert sorted(path.name for path in folder.path.iterdir()) == before


_words = st.lists(st.text(st.characters(codec="utf-8", exclude_categories=["C"])), max_size=4)


@settings(max_examples=40)
@for_any(_words)
def test_a_posix_shell_reads_the_words_back(message):
    line = quoted(["printf", r"%s\037", *message], "posix")
    out = subprocess.run(["sh", "-c", line], capture_output=True, check=True).stdout.decode()
    assert out.split("\x1f")[:-1] == (message or [""])


def read_as_program(line):
    """Cut a line into arguments as programs on Windows do (CommandLineToArgvW)."""
    matches, word, inside, started, slashes = [], "", False, False, 0
    for sign in [*line, " "]:
        if sign == "\\":
            slashes += 1
            started = True
            continue
        if sign == '"':
            word += "\\" * (slashes // 2)
            if slashes % 2:
                word += '"'
            else:
                inside = not inside
            started, slashes = True, 0
            continue
        word, slashes = word + "\\" * slashes, 0
        if sign in " \t" and not inside:
            matches += [word] if started else []
            word, started = "", False
        else:
            word, started = word + sign, True
    return matches


@for_any(_words)
def test_the_command_prompt_reads_the_words_back(message):
    line = quoted(message, "cmd")
    bare = re.sub(r"\^(.)", "", line)
    assert not re.search(r'[()%!^"<>&|]', bare), "the prompt would act on this"
    assert read_as_program(re.sub(r"\^(.)", r"\1", line)) == message


@for_any(_words)
def test_pwsh_reads_the_words_back(message):
    line = quoted(["wolfbane", *message], "pwsh")
    if line.startswith("wolfbane --% "):
        assert read_as_program(line.removeprefix("wolfbane --% ")) == message
    else:
        read = [
            word[1:-1].replace("''", "'") if word.startswith("'") else word
            for word in re.findall(r"(?<!\S)(?:'(?:[^']|'')*'|[^\s']+)(?!\S)", line)
        ]
        assert read == ["wolfbane", *message]
