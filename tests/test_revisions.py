"""``--at``: suites as they are at a git revision, from a copy that git makes of its commit."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys

import pytest

from conftest import Folder, present

pytestmark = pytest.mark.skipif(not present("git"), reason="git is not installed")

SETTINGS = """
    [workspace]
    name = "Quay"
    env = "local"

    [[suite]]
    name = "fees"
    kind = "python"
    paths = ["tests"]
    tags = ["NOW"]

    [param.rate]
    export = "RATE"
    [param.key]
    secret = true
    export = "KEY"

    [env.local]
    rate = "3"
    values_from = ".env"

    [preset.quick]
    arguments = ["--name", "tenth"]
"""
FEES = """
    import os, unittest
    class Fees(unittest.TestCase):
        def test_tenth(self):
            print("rate", os.environ.get("RATE"), "key", len(os.environ.get("KEY", "")))
        def test_winter(self):
            pass
"""
ADDED = """
        def test_summer(self):
            self.fail("there is no summer fee")
"""


@pytest.fixture
def quay(folder):
    """A repository: v1.0 has no settings, v1.1 has them, v1.2 has a test more; then changed."""
    folder.git("init", "--quiet")
    folder.file(".gitignore", ".env\n.wolfbane\n*.json\nenv311\n")
    folder.file("tests/test_fees.py", FEES)
    commit(folder, "v1.0")
    folder.file("wolfbane.toml", SETTINGS.replace("NOW", "then"))
    commit(folder, "v1.1")
    folder.file("wolfbane.toml", SETTINGS.replace("NOW", "now"))
    folder.file("tests/test_fees.py", FEES + ADDED)
    commit(folder, "v1.2")
    folder.file(".env", "KEY=low-water\n")
    folder.file("tests/test_fees.py", FEES + ADDED + ADDED.replace("summer", "spring"))
    return folder


def commit(folder, tag):
    folder.git("add", "--all")
    folder.git("commit", "--quiet", "--message", tag)
    folder.git("tag", tag)


def record(folder):
    return json.loads((folder.path / "report.json").read_text())


def copies(folder):
    return sorted((folder.path / ".wolfbane" / "revisions").glob("*/tree"))


def test_runs_at_two_tags_tell_different_counts_and_touch_nothing_here(quay):
    quay.file(".git/info/exclude", "__pycache__\n")
    hook = quay.file(".git/hooks/post-checkout", f"#!/bin/sh\ntouch {quay.path}/ran\n", 0o755)
    quay.file("tests/test_more.py", "")
    quay.git("stash", "--include-untracked")
    quay.file("tests/test_fees.py", FEES + ADDED + ADDED.replace("summer", "spring"))
    before = [quay.git("status", "--porcelain"), quay.git("stash", "list")]
    index = (quay.path / ".git" / "index").read_bytes()

    old = quay.run("--at", "v1.1")
    new = quay.run("--at", "v1.2")
    here = quay.run()

    assert [len(each.results) for each in (old, new, here)] == [2, 3, 4]
    assert old.results.keys() < new.results.keys() < here.results.keys()
    assert (old.code, new.code) == (0, 1)
    assert "suites at v1.1 (commit" in old.text
    assert "settings from wolfbane.toml at v1.1" in old.text
    assert "wolfbane run --at v1.2 'tests/test_fees.py#Fees / test_summer'" in new.text
    assert [quay.git("status", "--porcelain"), quay.git("stash", "list")] == before
    assert (quay.path / ".git" / "index").read_bytes() == index
    assert hook.exists()
    assert not (quay.path / "ran").exists()


def test_the_record_keeps_revision_and_commit_and_compare_takes_them(quay):
    commits = {tag: quay.git("rev-parse", tag).strip() for tag in ("v1.1", "v1.2")}
    states = []
    for arguments in (("--at", "v1.2"), ("--at", "v1.1"), ()):
        quay.run(*arguments)
        states.append(record(quay)["started"]["suite_state"])
    assert [(s["revision"], s["commit"], s["changed"]) for s in states] == [
        ("v1.2", commits["v1.2"], False),
        ("v1.1", commits["v1.1"], False),
        ("", commits["v1.2"], True),
    ]
    told = quay.call("compare", "v1.1", "v1.2", "--as", "json")
    result = json.loads(told.out)
    assert [result["before"]["revision"], result["after"]["revision"]] == ["v1.1", "v1.2"]
    assert [each["address"] for each in result["new"]] == [
        "tests/test_fees.py#Fees / test_summer @local"
    ]
    assert not result["gone"]
    shown = quay.call("history")
    assert "v1.1" in shown.out
    assert f"{commits['v1.2'][:10]}+" in shown.out
    kept = json.loads(quay.call("runs", "--as", "json").out)
    assert [each["revision"] for each in kept] == ["", "v1.1", "v1.2"]
    nobody = quay.call("compare", "v1.0", "v1.2")
    assert nobody.code == 2
    assert "no run at revision 'v1.0' is recorded; wolfbane run --at v1.0" in nobody.err


def test_settings_are_from_there_and_environments_from_here(quay):
    there = quay.run("--at", "v1.1", "--preset", "quick", "-v")
    (tenth,) = there.results.values()
    assert tenth["output"] == "rate 3 key 9\n"
    assert {result["tags"][0] for result in there.results.values()} == {"then"}
    here = quay.run("--at", "v1.1", "--settings", "here", "--tag", "now")
    assert len(here.results) == 2
    assert "settings from the current wolfbane.toml" in here.text
    detected = quay.run("--at", "v1.0", "tests/test_fees.py")
    assert len(detected.results) == 2
    assert "suites detected, because v1.0 has no wolfbane.toml" in detected.text
    assert "workspace    Quay" in there.out


def test_other_commands_look_at_a_revision_too(quay):
    listed = quay.call("list", "--at", "v1.1", "--as", "json")
    assert len(json.loads(listed.out)) == 2
    inside = subprocess.run(
        quay.command("list", "--at", "v1.2", "test_fees.py"),
        cwd=quay.path / "tests",
        env=quay.environment(),
        capture_output=True,
        text=True,
        check=True,
    )
    assert "3 tests in 1 file" in inside.stdout
    assert "not there" not in quay.call("explain", "--at", "v1.1", "test_winter").out
    assert quay.call("explain", "--at", "v1.1", "test_summer").code == 2
    assert quay.run("--at", "v1.2", "--status", "failed").code == 3
    quay.run("--at", "v1.2")
    assert len(quay.run("--at", "v1.2", "--status", "failed").results) == 1
    assert quay.run("--status", "failed").code == 3, "what failed there did not fail here"


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["--at", "v1.3"], "--at v1.3: git cannot find this revision; did you mean v1"),
        (["--at", "--help"], "--at --help: git cannot find this revision"),
        (["--at", ""], "the value is empty"),
        (["--settings", "here"], "--settings needs --at"),
        (["--at", "v1.0", "--settings", "hier"], "'hier' is not one of 'there', 'here'"),
        (["--at", "deployed"], "environment 'local' does not define 'version'"),
        (["--version-must-match"], "no environment defines 'version'"),
        (
            ["--at", "v1.1", "--workspace", "older"],
            "folder 'older' does not exist at this revision",
        ),
    ],
)
def test_what_cannot_be_looked_at_is_said(quay, arguments, message):
    quay.file("older/wolfbane.toml", "")
    wrong = quay.run(*arguments)
    assert (wrong.code, wrong.results) == (2, {})
    assert message in " ".join(wrong.err.split())


def test_without_a_repository_or_with_broken_settings_there(quay):
    quay.file("wolfbane.toml", "[workspace]\nnmae = 'x'\n")
    commit(quay, "v2.0")
    quay.git("checkout", "--quiet", "v1.2")
    wrong = quay.run("--at", "v2.0")
    assert wrong.code == 2
    assert "v2.0:wolfbane.toml:2: unknown key 'nmae'; did you mean name?" in wrong.err
    assert "--settings here" in wrong.err
    shutil.rmtree(quay.path / ".git")
    bare = quay.run("--at", "v1.1")
    assert (bare.code, "is not in a git repository" in bare.err) == (2, True)


def test_a_copy_that_a_crash_left_behind_is_mended(quay):
    quay.run("--at", "v1.2")
    (tree,) = copies(quay)
    (tree / "tests" / "test_fees.py").write_text("")
    again = quay.run("--at", "v1.2")
    assert len(again.results) == 3
    assert "the copy contained changed files; they were restored" in again.text
    (tree / "tests" / "test_fees.py").unlink()
    (tree.parent / "ready.json").unlink()
    assert len(quay.run("--at", "v1.2").results) == 3
    shutil.rmtree(tree)
    assert len(quay.run("--at", "v1.2").results) == 3


def test_two_runs_may_want_a_revision_at_once(quay):
    command = quay.command("run", "--at", "v1.1", "-q")
    runs = [
        subprocess.Popen(command, cwd=quay.path, env=quay.environment(), stderr=subprocess.PIPE)
        for _ in range(4)
    ]
    assert [each.communicate()[1] for each in runs] == [b""] * 4
    assert [each.returncode for each in runs] == [0] * 4
    assert len(copies(quay)) == 1


def test_a_disk_that_is_full_leaves_no_half_of_a_copy(quay):
    quay.file("chart.bin", os.urandom(300_000).hex())
    commit(quay, "v1.3")
    limited = ["sh", "-c", 'ulimit -f 500; exec "$@"', "sh", *quay.command("run", "--at", "v1.3")]
    done = subprocess.run(
        limited,
        cwd=quay.path,
        env=quay.environment(),
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 2, done.stderr
    assert "--at v1.3: git cannot create a copy in" in done.stderr
    assert copies(quay) == []
    assert len(quay.run("--at", "v1.3").results) == 4


def test_tools_that_git_does_not_know_are_those_of_here(quay):
    make = [sys.executable, "-m", "venv", "--without-pip", str(quay.path / "env311")]
    subprocess.run(make, check=True)
    quay.file("node_modules/tide/index.js", "")
    named = SETTINGS.replace('paths = ["tests"]', 'paths = ["tests"]\npython = "env311/bin/python"')
    quay.file("wolfbane.toml", named)
    quay.file(
        "tests/test_fees.py",
        """
        import sys
        def test_tool():
            assert sys.prefix.endswith("env311")
    """,
    )
    quay.git("add", "wolfbane.toml", "tests")
    quay.git("commit", "--quiet", "--message", "tools")
    done = quay.run("--at", "main")
    assert list(done.outcomes.values()) == ["passed"]
    (tree,) = copies(quay)
    assert (tree / "node_modules" / "tide" / "index.js").is_file()


def test_submodules_come_along_and_pointers_of_large_files_are_named(quay, tmp_path_factory):
    other = Folder(tmp_path_factory.mktemp("charts"))
    other.git("init", "--quiet")
    other.file("chart.txt", "2 m\n")
    commit(other, "first")
    quay.git("-c", "protocol.file.allow=always", "submodule", "add", str(other.path), "charts")
    quay.file(".gitattributes", "*.tif filter=large\n")
    quay.file("map.tif", "version https://git-lfs.github.com/spec/v1\noid sha256:0\nsize 9\n")
    commit(quay, "v2.0")
    shutil.rmtree(other.path)
    done = quay.run("--at", "v2.0")
    (tree,) = copies(quay)
    assert (tree / "charts" / "chart.txt").read_text() == "2 m\n"
    assert "1 large file was not downloaded and is only a pointer here: map.tif" in done.text


def test_clean_removes_the_copies_that_no_run_is_from(quay):
    for tag in ("v1.1", "v1.2"):
        quay.run("--at", tag)
    assert len(copies(quay)) == 2
    planned = quay.call("clean", "--keep", "1", "--dry-run")
    assert "would remove unused copies of git revisions" in planned.out
    assert len(copies(quay)) == 2
    assert "removed unused copies" in quay.call("clean", "--keep", "1").out
    (left,) = copies(quay)
    assert quay.git("-C", str(left), "describe", "--tags").strip() == "v1.2"
    assert len(quay.git("worktree", "list").splitlines()) == 2
    settings = quay.path / "wolfbane.toml"
    settings.write_text(f"{settings.read_text()}\n[keep]\nruns = 1\n")
    quay.run()
    assert copies(quay) == []
