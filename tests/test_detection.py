"""A folder without settings, or whose settings name no suite: its suites are worked out."""

from __future__ import annotations

import os
import sys
import tomllib
from pathlib import Path

import pytest

from conftest import present

PLAIN = "def test_plain(): pass\n"
needs_perl = pytest.mark.skipif(not present("perl"), reason="there is no Perl here")


def test_both_customs_of_naming_and_names_in_any_script(folder):
    folder.file("tests/berth_test.py", PLAIN)
    folder.file(
        "tests/test_b.py",
        "import unittest\nclass Größe(unittest.TestCase):\n    def test_ä(self): pass\n",
    )
    assert folder.run().outcomes == {
        "tests/berth_test.py#test_plain": "passed",
        "tests/test_b.py#Größe / test_ä": "passed",
    }


def test_files_that_look_like_tests_and_belong_to_no_suite_are_named(folder):
    folder.file("tests/test_a.py", PLAIN)
    for name in ("java/FeeTest.java", "web/fee.spec.ts", "web/test-fee.js", "go/fee_test.go"):
        folder.file(name, "")
    folder.file("java/Latest.java", "")
    said = "4 files look like tests but belong to no suite: go/fee_test.go, java/FeeTest.java"
    assert "in no suite  4 files: go/fee_test.go, java/FeeTest.java" in folder.run().out
    assert said in folder.call("list").err
    assert said in " ".join(folder.call("doctor").out.split())
    folder.call("init")
    assert "in no suite" not in folder.run().out  # settings say what is meant
    assert said in folder.call("list").err


def test_settings_without_a_suite_apply_to_what_is_detected(folder):
    folder.file("wolfbane.toml", '[workspace]\nleave_out = "tag:wip"\n')
    folder.file("test_a.py", PLAIN + "# tags: wip\ndef test_wip(): pass\n")
    assert folder.run().outcomes == {"test_a.py#test_plain": "passed"}


def test_a_workspace_below_is_not_taken_in(folder):
    folder.file("services/berth/tests/test_a.py", PLAIN)
    folder.file("services/quay/wolfbane.toml", "[workspace]\n")
    folder.file("services/quay/tests/test_b.py", PLAIN)
    run = folder.run()
    assert run.outcomes == {"services/berth/tests/test_a.py#test_plain": "passed"}
    assert "services/quay is a separate workspace" in run.out
    inner = folder.run("--workspace", "services/quay")
    assert inner.outcomes == {"tests/test_b.py#test_plain": "passed"}


def test_a_subproject_works_in_its_own_folder_and_init_says_so(folder):
    folder.file("services/fee/pyproject.toml", "[project]\nname = 'fee'\n")
    folder.file("services/fee/src/fee/__init__.py", "RATE = 3\n")
    folder.file("services/fee/rates.txt", "3")
    check = "import fee\ndef test_rate(): assert fee.RATE == int(open('rates.txt').read())\n"
    folder.file("services/fee/tests/test_fee.py", check)
    before = folder.run().outcomes
    assert before == {"services/fee/tests/test_fee.py#test_rate": "passed"}
    assert folder.call("init").code == 0
    assert folder.run().outcomes == before
    [suite] = tomllib.loads((folder.path / "wolfbane.toml").read_text())["suite"]
    assert (suite["name"], suite["folder"], suite["import_path"], suite["python"]) == (
        "services-fee",
        "services/fee",
        ["services/fee/src"],
        "python3",
    )


@needs_perl
@pytest.mark.parametrize("built", [False, True])
def test_perl_programs_test_the_checkout(folder, built):
    folder.file("t/a.t", 'use Moor; print "1..1\\nok 1 - $Moor::FROM\\n";\n')
    folder.file("xt/b.t", "die\n")
    for path in ("installed", "lib", "blib/lib"):
        folder.file(f"{path}/Moor.pm", f"package Moor; our $FROM = '{path}'; 1;\n")
    seconds = 1_000_000_000 + 10 * built
    os.utime(folder.path / "blib/lib/Moor.pm", (seconds, seconds))
    os.utime(folder.path / "lib/Moor.pm", (1_000_000_005, 1_000_000_005))
    run = folder.run(PERL5LIB=str(folder.path / "installed"))
    [result] = run.results.values()
    assert result["parts"][0]["name"] == ("blib/lib" if built else "lib")
    assert "in no suite  xt/b.t" in run.out


def test_the_projects_own_interpreter_is_used_and_shown(folder):
    folder.file("tests/test_a.py", "import sys\ndef test_a(): print(sys.executable)\n")
    path = folder.path / "bin"
    script = folder.file("bin/python3", '#!/bin/sh\nexec "$REAL" "$@"\n', mode=0o755)
    real = str(Path(sys.executable).resolve())
    shown = real.replace(f"{Path.home()}/", "~/")
    on_path = folder.run(PATH=f"{path}:{os.environ['PATH']}", REAL=real)
    assert shown in on_path.out.replace("\n", "").replace(" ", "")
    assert str(script) not in on_path.out
    own = folder.path / ".venv/bin/python"
    own.parent.mkdir(parents=True)
    own.symlink_to(real)
    assert "(.venv/bin/python)" in folder.run().out


@pytest.mark.parametrize(
    "arguments",
    [
        ["run", ""],
        ["run", "tests", ""],
        ["run", "--tag", ""],
        ["run", "--pick", ""],
        ["run", "--env", ""],
        ["list", "-w", ""],
        ["run", "--set", ""],
        ["run", "--tag", "a,,b"],
    ],
)
def test_an_empty_value_is_an_error_and_runs_nothing(folder, arguments):
    folder.file("tests/test_a.py", PLAIN)
    run = folder.call(*arguments)
    assert run.code == 2 and ("empty" in run.err or "KEY=VALUE" in run.err), run.err


def test_a_folder_of_projects_is_not_run_as_one(folder):
    for name in ("quay", "ledger"):
        folder.file(f"{name}/pyproject.toml", "")
        folder.file(f"{name}/tests/test_a.py", "def test_a(): pass\n")
    folder.file("notes.txt", "")
    run = folder.call("run")
    assert (run.code, run.out) == (2, "")
    assert "contains 2 projects: ledger, quay" in run.err
    assert "wolfbane run ledger; or all: wolfbane run ." in " ".join(run.err.split())
    assert len(folder.run("quay").results) == 1
    assert len(folder.run(".").results) == 2
    folder.file("test_own.py", "def test_own(): pass\n")
    assert len(folder.run().results) == 3, "it has tests of its own"


def test_files_in_no_suite_are_named_with_what_to_do(folder):
    folder.file("test/berths.js", "describe('berths', () => { it('adds', () => {}); });\n")
    folder.file("test/helpers/boats.js", "exports.boats = 3;\n")
    folder.file("quay/tide.test", "test tide-1 {} { expr 1 } 1\n")
    folder.file("t/plain.rb", "puts 1\n")
    folder.file("tests/runtests.py", "print('all')\n")
    folder.file("spec/test_real.py", "def test_a(): pass\n")
    folder.file("spec/helper.py", "BOATS = 3\n")
    wanted = ["test/berths.js", "quay/tide.test", "t/plain.rb", "tests/runtests.py"]
    listed = folder.call("list")
    assert listed.code == 0 and "files look like tests but belong to no suite" in listed.err
    for out in (folder.call("run", "--verbose").text, folder.call("doctor").text):
        assert "spec/helper.py" not in out
        assert "bare_words = true" in out
        assert "wolfbane bridge learn --all 'python tests/runtests.py'" in out
    assert all(name in folder.call("run", "--verbose").text for name in wanted)
    assert folder.call("init").code == 0
    assert "bare_words = true" in (folder.path / "wolfbane.toml").read_text()
    if present("node"):
        assert folder.run("--kind", "node").outcomes == {"test/berths.js#berths / adds": "passed"}


def test_doctor_is_not_content_where_nothing_can_run(folder):
    folder.file("README.md", "no tests\n")
    out = folder.call("doctor").text
    assert "there is no suite, so nothing can run" in out and "no problems" not in out
