"""One hostile file is an error of that file, and stops nothing else."""

from __future__ import annotations

import os

import pytest

from conftest import present

DEEP = 50_000


def workspace(folder, kind, good, source):
    folder.file("wolfbane.toml", f'[[suite]]\nname = "a"\nkind = "{kind}"\npaths = ["a"]\n')
    folder.file(f"a/{good}", source)
    return folder


@pytest.fixture
def python(folder):
    return workspace(folder, "python", "test_good.py", "def test_good(): pass\n")


@pytest.fixture
def flows(folder):
    return workspace(folder, "workflow", "none.txt", "")


def bomb():
    lines = ["arazzo: 1.0.1", f"a: &a [{', '.join('x' * 9)}]"]
    for before, after in zip("abcdefgh", "bcdefghi", strict=True):
        lines.append(f"{after}: &{after} [{', '.join([f'*{before}'] * 9)}]")
    return "\n".join(lines)


HOSTILE_PYTHON = {
    "a loop of links": (lambda p: p.symlink_to("test_bad.py"), "Too many levels"),
    "a link to nothing": (lambda p: p.symlink_to("nowhere"), "No such file"),
    "a pipe": (os.mkfifo, "it is not a regular file"),
    "deep": (lambda p: p.write_text(f"x = {'-' * DEEP}1\n"), "nested too deeply"),
    "brackets": (lambda p: p.write_text(f"x = {'(' * DEEP}{')' * DEEP}\n"), "nested"),
}


@pytest.mark.parametrize("what", HOSTILE_PYTHON)
def test_hostile_python_files(python, what):
    make, words = HOSTILE_PYTHON[what]
    make(python.path / "a/test_bad.py")
    run = python.run("--report", "html=out.html")
    assert run.outcomes == {"a/test_good.py#test_good": "passed", "a/test_bad.py": "errored"}
    assert words in run.results["a/test_bad.py"]["message"]
    assert len(run.out) < 5000
    assert python.call("list").code == 0


def test_names_that_are_not_utf_8(python):
    for name in (b"a/test_\xff.py", b"a/deep\xfe/test_a.py"):
        path = python.path / os.fsdecode(name)
        path.parent.mkdir(exist_ok=True)
        path.write_text("def test_a(): pass\n")
    run = python.run("--report", "xunit=out.xml")
    assert sorted(run.outcomes.values()) == ["errored", "errored", "passed"]
    assert run.results["a/test_\\udcff.py"]["message"].startswith(
        "the file name is not valid UTF-8"
    )
    assert python.call("list").code == 0
    assert python.call("history", "a").code == 0


def test_what_is_detected_has_a_name_that_can_be_written(folder):
    for place in ("ok", os.fsdecode(b"odd\xff")):
        (folder.path / place).mkdir()
        (folder.path / place / "test_a.py").write_text("def test_a(): pass\n")
    run = folder.run()
    assert run.outcomes == {"ok/test_a.py#test_a": "passed"}, run.err
    assert "in no suite  odd\\udcff/test_a.py" in run.out


@pytest.mark.skipif(not present("node"), reason="there is no Node.js here")
def test_an_import_that_no_file_could_be_named_like(folder):
    workspace(folder, "node", "good.test.js", "require('node:test').test('good', () => {});\n")
    folder.file("a/long.js", f"module.exports = () => require('./{'x' * 5000}');\n")
    assert folder.run().outcomes == {"a/good.test.js#good": "passed"}


HOSTILE_FLOWS = {
    "a bomb of aliases": ("yaml", bomb(), "bad.arazzo.yaml:2: the aliases expand"),
    "deep JSON": ("json", f'{{"x": {"[" * DEEP}{"]" * DEEP}}}', "nested too deeply"),
    "deep YAML": ("yaml", f"x: {'[' * DEEP}{']' * DEEP}", "nest"),
}


@pytest.mark.parametrize("what", HOSTILE_FLOWS)
def test_hostile_documents(flows, what):
    ending, text, words = HOSTILE_FLOWS[what]
    flows.file(f"a/bad.arazzo.{ending}", text)
    os.mkfifo(flows.path / "a/pipe.arazzo.yaml")
    run = flows.run()
    assert set(run.outcomes.values()) == {"errored"} and len(run.outcomes) == 2
    assert words in run.results[f"a/bad.arazzo.{ending}"]["message"]


def test_pipes_where_caches_are_expected(python):
    python.run()
    for name in ("inventory.json", "outcomes.json", "words/files", "settings.checked"):
        place = python.path / ".wolfbane" / name
        place.unlink(missing_ok=True)
        os.mkfifo(place)
    assert python.run("--status", "new").outcomes == {"a/test_good.py#test_good": "passed"}
    assert python.run("--status", "passed").outcomes == {"a/test_good.py#test_good": "passed"}
