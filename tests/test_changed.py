"""``changed:REV``: what differs from a git revision, and whatever imports reach it."""

from __future__ import annotations

import json

import pytest

from conftest import present, suite

SETTINGS = (
    suite("fees", "python", "tests", inputs=["tables/*.csv"], import_path=["lib"])
    + suite("rules", "scenario", "rules") + suite("log", "tap", "t/*.t")
)  # fmt: skip


@pytest.fixture
def harbour(folder):
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("lib/berths/__init__.py", "")
    folder.file("lib/berths/fit.py", "from . import measures\n")
    folder.file("lib/berths/measures.py", "LONG = 12\n")
    folder.file(
        "lib/tides.py", "import importlib\n\nheights = importlib.import_module('heights')\n"
    )
    folder.file("lib/heights.py", "")
    folder.file("tests/test_fit.py", "from berths.fit import measures\ndef test_fit(): pass\n")
    folder.file("tests/test_tides.py", "import tides\ndef test_tide(): pass\n")
    folder.file("tests/test_alone.py", "def test_alone(): pass\n")
    steps = "from wolfbane.steps import given\nimport berth_words\nfrom lib import signals\n"
    folder.file("rules/steps/berth_steps.py", steps)
    folder.file("rules/steps/berth_words.py", "import flags\n")
    folder.file("flags.py", "")
    folder.file("lib/signals.py", "")
    folder.file("t/log.t", "print qq{1..1\\nok 1\\n};\n")
    folder.file("rules/berth.feature", "Feature: Berths\n  Scenario: one\n    Given a boat\n")
    folder.git("init", "-q", "-b", "main")
    folder.git("add", "-A")
    folder.git("commit", "-q", "-m", "the harbour")
    return folder


def chosen(folder, *arguments):
    shown = folder.call("list", "--as", "json", *arguments)
    assert shown.code in (0, 3), shown.err
    return {test["path"] for test in json.loads(shown.out)} if not shown.code else set()


@pytest.mark.parametrize(("file", "reached"), [
    ("lib/berths/measures.py", {"tests/test_fit.py"}),
    ("lib/berths/__init__.py", {"tests/test_fit.py"}),
    ("lib/heights.py", {"tests/test_tides.py"}),
    ("tests/test_alone.py", {"tests/test_alone.py"}),
    ("rules/steps/berth_steps.py", {"rules/berth.feature"}),
    ("rules/steps/new_steps.py", {"rules/berth.feature"}),
    ("flags.py", {"rules/berth.feature"}),
    ("lib/deep/Log.pm", {"t/log.t"}),
    ("lib/signals.py", {"rules/berth.feature"}),
    ("tables/prices.csv", {"tests/test_fit.py", "tests/test_tides.py", "tests/test_alone.py"}),
    ("README.md", set()),
])  # fmt: skip
def test_a_change_reaches_what_imports_it(harbour, file, reached):
    path = harbour.path / file
    path.parent.mkdir(exist_ok=True, parents=True)
    path.write_text((path.read_text() if path.exists() else "") + "# changed\n")
    assert chosen(harbour, "--changed", "HEAD") == reached
    harbour.git("add", "-A")
    harbour.git("commit", "-q", "-m", "a change")
    assert chosen(harbour, "--changed", "HEAD") == set()
    assert chosen(harbour, "--pick", "changed:HEAD~1") == reached


def test_the_way_of_a_change_is_told(harbour):
    (harbour.path / "lib" / "berths" / "measures.py").unlink()
    told = harbour.call("explain", "test_fit", "--changed", "main")
    assert "it depends on lib/berths/fit.py, which depends on lib/berths/measures.py" in " ".join(
        told.out.split()
    )
    assert "not selected" in harbour.call("explain", "test_alone", "--changed", "main").out
    (harbour.path / "lib" / "berths" / "measures.py").write_text("LONG = 13\n")
    run = harbour.run("--changed", "main")
    assert (run.code, list(run.results)) == (0, ["tests/test_fit.py#test_fit"])
    assert "1 test in 1 file of 1 suite: changed:main" in run.out


@pytest.mark.skipif(not present("node"), reason="node is not here")
def test_javascript_imports_count(folder):
    folder.file("wolfbane.toml", '[[suite]]\nname = "page"\nkind = "node"\npaths = ["page"]\n')
    folder.file("page/a.mjs", "export { b } from './deep/b.js';\n")
    folder.file("page/deep/b.js", "exports.b = require('./c');\n")
    folder.file("page/deep/c.js", "module.exports = 1;\n")
    head = "import test from 'node:test';\n"
    folder.file(
        "page/one.test.mjs", head + "import { b } from './a.mjs';\ntest('one', () => {});\n"
    )
    late = "test('two', async () => { await import('./deep/c.js'); });\n"
    folder.file("page/two.test.mjs", head + late)
    folder.file("page/three.test.mjs", head + "test('three', () => {});\n")
    folder.git("init", "-q")
    folder.git("add", "-A")
    folder.git("commit", "-q", "-m", "pages")
    folder.file("page/deep/c.js", "module.exports = 2;\n")
    assert chosen(folder, "--changed", "HEAD") == {"page/one.test.mjs", "page/two.test.mjs"}


def test_what_git_does_not_know_is_said(harbour, tmp_path):
    wrong = harbour.call("list", "--changed", "mian")
    assert wrong.code == 2
    assert "changed:mian: git cannot find this revision; did you mean main?" in wrong.err
    assert harbour.call("list", "--changed=--output=x").code == 2
    nothing = harbour.call("run", "--changed", "HEAD")
    assert (nothing.code, "changed:HEAD matches 0 of 5 tests" in nothing.err) == (3, True)
    (harbour.path / ".git").rename(tmp_path / "away")
    bare = harbour.call("list", "--changed", "HEAD")
    assert (bare.code, "is not in a git repository" in bare.err) == (2, True)
