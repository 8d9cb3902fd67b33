"""Suites that are built first: when, and what happens where that fails."""

from __future__ import annotations

import pytest

from conftest import suite

SETTINGS = suite(
    "tables",
    "python",
    "made",
    build=["mkdir -p made", "./make.sh"],
    inputs=["source.txt"],
    env={"WORD": "built"},
) + suite("other", "python", "tests")
MAKE = """#!/bin/sh
echo "making tables, $WORD"
echo x >> count
echo "def test_made(): assert '$(cat source.txt)' == 'tide'" > made/test_made.py
"""
MADE, OTHER = "made/test_made.py#test_made", "tests/test_o.py#test_o"


@pytest.fixture
def built(folder):
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("make.sh", MAKE, mode=0o755)
    folder.file("source.txt", "tide")
    folder.file("tests/test_o.py", "def test_o(): pass\n")
    return folder


def builds(folder):
    path = folder.path / "count"
    return len(path.read_text().splitlines()) if path.exists() else 0


def test_built_once_until_an_input_changes(built):
    first = built.run()
    assert first.outcomes == {MADE: "passed", OTHER: "passed"}, first.out + first.err
    assert "building   tables: ./make.sh" in first.out
    assert builds(built) == 1
    built.run()
    built.run("--suite", "other")
    assert builds(built) == 1
    built.file("source.txt", "ebb")
    stale = built.run("--no-build")
    assert stale.outcomes[MADE] == "passed" and builds(built) == 1
    assert "suite tables uses an outdated build" in stale.out
    assert built.run().outcomes[MADE] == "failed"
    built.run("--rebuild")
    assert builds(built) == 3


def test_built_again_if_an_output_is_missing(built):
    settings = SETTINGS.replace("inputs =", 'outputs = ["made/*.py", "count"]\ninputs =')
    built.file("wolfbane.toml", settings)
    assert "outputs" in settings
    built.run()
    built.run()
    assert builds(built) == 1
    (built.path / "made/test_made.py").unlink()
    assert built.run().outcomes[MADE] == "passed"
    assert builds(built) == 2
    (built.path / "count").unlink()
    built.run()
    assert builds(built) == 1, "the file of the last build"


def test_other_suites_build_nothing(built):
    run = built.run("--suite", "other")
    assert run.outcomes == {OTHER: "passed"}
    assert "1 suite without selected tests: tables" in run.out
    assert builds(built) == 0


@pytest.mark.parametrize("before", ["fresh", "built"])
def test_a_failed_build_blocks_its_suite_alone(built, before):
    if before == "built":
        built.run()
    built.file("make.sh", "#!/bin/sh\necho no ink left\nexit 3\n", mode=0o755)
    built.file("source.txt", "ebb")
    run = built.run()
    path = "made" if before == "fresh" else "made/test_made.py#test_made"
    assert run.outcomes == {path: "blocked", OTHER: "passed"}, run.out
    assert run.code == 4
    assert (
        "the build of the suite failed: ./make.sh (exit code 3)" in run.out
        and "no ink left" in run.out
    )
    assert built.run().outcomes[path] == "blocked"


def test_a_missing_program_blocks_its_suite_alone(built):
    settings = built.path / "wolfbane.toml"
    text = settings.read_text()
    settings.write_text(text.replace("build =", 'requires = ["sh", "no-such-tide"]\nbuild =', 1))
    run = built.run()
    message = "required program 'no-such-tide' not found"
    assert run.code != 0 and message in run.out, run.out
    assert "passed" in run.outcomes.values(), "the other suite ran"
    assert not (built.path / "made").exists(), "nothing was built"
    assert message in " ".join(built.call("doctor").out.split())
