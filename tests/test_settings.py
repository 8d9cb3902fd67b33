"""wolfbane.toml: what is wrong with it is said at once, with file, line and nearest word."""

from __future__ import annotations

import os
import tomllib

import pytest

from conftest import suite

BAD = {
    "broken": ("[workspace\n", ["wolfbane.toml:1: not valid TOML"]),
    "keys": (
        '[workspace]\nnmae = "x"\n[[suite]]\nname = "a"\nkind = "python"\npaths = ["."]\n'
        'intepreter = "x"\n[sute]\n',
        [
            "wolfbane.toml:2: unknown key 'nmae'; did you mean name?",
            "wolfbane.toml:7: unknown key 'intepreter'; did you mean interpreters?",
            "wolfbane.toml:8: unknown key 'sute'; did you mean suite?",
        ],
    ),
    "kind": (
        '[[suite]]\nname = "a"\nkind = "phyton"\npaths = ["."]\n',
        ["wolfbane.toml:3: unknown kind 'phyton'; did you mean python?"],
    ),
    "shape": (
        '[workspace]\njobs = "two"\n[[suite]]\nkind = "tap"\npaths = "t"\n',
        [
            "wolfbane.toml:2: 'workspace.jobs' is 'two'",
            "wolfbane.toml:3: 'suite.name' is missing",
            "wolfbane.toml:5: 'suite.paths' is 't'",
        ],
    ),
    "values": (
        '[workspace]\ntimeout = "soon"\njobs = 0\n'
        '[[suite]]\nname = "a b"\nkind = "tap"\npaths = []\n',
        [
            "wolfbane.toml:2: 'timeout': 'soon' is not a duration",
            "wolfbane.toml:3: 'jobs' is 0",
            "wolfbane.toml:5: 'a b' is not a valid name",
            "wolfbane.toml:7: suite 'a b' has no 'paths'",
        ],
    ),
    "cluster": (
        '[cluster]\nlimit = "much"\nca = "no.pem"\n',
        [
            "wolfbane.toml:2: 'limit': 'much' is not a size",
            "wolfbane.toml:3: 'ca': file no.pem does not exist",
            "wolfbane.toml:1: TLS also needs 'certificate' and 'key'",
        ],
    ),
    "cross": (
        '[workspace]\nleave_out = "(tag:x"\n'
        '[[suite]]\nname = "a"\nkind = "tap"\npaths = ["nowhere"]\npython = "python3"\n'
        '[[suite]]\nname = "a"\nkind = "tap"\npaths = ["."]\nfolder = "gone"\n'
        '[[tag]]\nname = "slow"\nmatch = "tag:a tag:b"\n',
        [
            "wolfbane.toml:2: this '(' has no matching ')'",
            "wolfbane.toml:6: suite 'a': path 'nowhere' does not exist",
            "wolfbane.toml:7: 'python' works only in suites of kind python or doctest",
            "wolfbane.toml:9: two suites are named 'a' (line 4)",
            "wolfbane.toml:12: folder 'gone' does not exist",
            "wolfbane.toml:15: connect terms",
        ],
    ),
}


@pytest.mark.parametrize("name", BAD)
def test_everything_wrong_is_said_at_once(folder, name):
    text, messages = BAD[name]
    folder.file("wolfbane.toml", text)
    run = folder.call("run")
    assert run.code == 2
    assert [message for message in messages if message not in run.err] == [], run.err
    assert not (folder.path / ".wolfbane").exists()


def test_results_that_cannot_be_kept(folder):
    folder.file(
        "wolfbane.toml",
        '[workspace]\nresults = "note.txt"\n[[suite]]\nname = "a"\n'
        'kind = "python"\npaths = ["test_a.py"]\n',
    )
    folder.file("test_a.py", "def test_a(): pass\n")
    folder.file("note.txt", "")
    assert "1 test in 1 file" in folder.call("list").out
    run = folder.call("run")
    assert (run.code, "cannot record runs in this folder" in run.err) == (2, True)


def test_unreadable_settings(folder):
    (folder.path / "wolfbane.toml").write_bytes(b"\xff\xfe")
    run = folder.call("list")
    assert (run.code, "cannot read the file" in run.err) == (2, True)


def test_nothing_to_run_anywhere(folder):
    run = folder.call("run")
    assert run.code == 3
    assert "no tests were found" in run.err and "wolfbane init" in run.err


def test_every_chosen_test_skipped_is_no_success(folder):
    folder.file("t/a.t", "#!/bin/sh\necho '1..0 # SKIP closed'\n")
    run = folder.run()
    assert (run.code, "all selected tests were skipped" in run.text) == (3, True)


def test_init_writes_what_was_detected_and_never_overwrites(folder):
    folder.file("test_top.py", "def test_a(): pass\n")
    folder.file("unit/test_b.py", "def test_b(): pass\n")
    folder.file("unit/c.t", "#!/bin/sh\necho 1..1; echo ok\n")
    folder.file("unit/helper_test.txt", "")
    before = folder.run().outcomes
    run = folder.call("init")
    assert "suite unit-tap (kind tap): unit" in run.out, run.out
    assert folder.run().outcomes == before
    assert set(before.values()) == {"passed"} and len(before) == 3
    text = (folder.path / "wolfbane.toml").read_text()
    again = folder.call("init")
    assert (again.code, "the file already exists" in again.err) == (2, True)
    assert (folder.path / "wolfbane.toml").read_text() == text


def test_every_kind_is_detected(folder):
    folder.file("test_top.py", "def test_a(): pass\n")
    folder.file("web/fees.test.mjs", "import { test } from 'node:test'; test('a', () => {});")
    folder.file("web/helper.js", "module.exports = {};")
    folder.file("crates/Cargo.toml", "[workspace]\n")
    folder.file("crates/tide/Cargo.toml", '[package]\nname = "tide"\n')
    folder.file("tools/gauge/Cargo.toml", '[package]\nname = "gauge"\n')
    folder.file("rules/tide.feature", "Feature: tide\n")
    folder.file("quay/a.t", "")
    assert folder.call("init").code == 0
    suites = tomllib.loads((folder.path / "wolfbane.toml").read_text())["suite"]
    assert [(suite["kind"], suite["paths"]) for suite in suites] == [
        ("python", ["test*.py"]),
        ("cargo", ["crates"]),
        ("tap", ["quay"]),
        ("scenario", ["rules"]),
        ("cargo", ["tools/gauge"]),
        ("node", ["web"]),
    ]


def test_a_file_of_two_suites_runs_once_and_is_said(folder):
    folder.file("wolfbane.toml", suite("a", "python", ".") + suite("b", "python", "."))
    folder.file("test_a.py", "def test_a(): pass\n")
    run = folder.run()
    assert len(run.results) == 1
    assert "test_a.py belongs to suites a, b; it runs only in a" in run.out


def test_exclude_and_globs(folder):
    folder.file("wolfbane.toml", suite("a", "python", "**/check_*.py", exclude=["old"]))
    for path in ("check_a.py", "deep/er/check_b.py", "old/check_c.py", "test_d.py"):
        folder.file(path, "def test_it(): pass\n")
    assert sorted(folder.run().results) == ["check_a.py#test_it", "deep/er/check_b.py#test_it"]


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["--rebuild", "--no-build"], "--rebuild and --no-build cannot be used together"),
        (["-qv"], "--quiet and --verbose cannot be used together"),
        (["--refresh", "--offline"], "--refresh and --offline cannot be used together"),
        (["--mail-when", "changed"], "--mail-when needs --mail-to"),
        (["--report", "json=/proc/none/out.json"], "cannot write the report"),
        (["--report", "json=pipe"], "'pipe' is not a regular file"),
        (["--report", "json=/dev/full"], "'/dev/full' is not a regular file"),
    ],
)
def test_options_that_cannot_be_followed_run_nothing(folder, arguments, message):
    folder.file("test_a.py", "def test_a(): open('ran', 'w')\n")
    os.mkfifo(folder.path / "pipe")
    run = folder.call("run", *arguments)
    assert (run.code, message in run.err) == (2, True), run.err
    assert not (folder.path / "ran").exists()


def test_a_wrong_option_is_told_with_its_command(folder):
    run = folder.call("run", "--nosuch")
    assert run.code == 2 and "wolfbane run [OPTIONS] [PATH]..." in run.err.splitlines()[0]
