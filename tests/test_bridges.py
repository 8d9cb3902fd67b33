"""Suites behind a bridge: how tests are found, chosen and given to a launcher."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import jsonschema
import pytest
from pydantic import TypeAdapter

from bridged import WEIRD, place
from wolfbane.workspace.bridge_tables import Bridge

DOCS = Path(__file__).parent.parent / "docs"


def test_a_ledger_answers_like_every_kind(ledger):
    run = ledger.run()
    assert run.code == 1, run.err
    assert run.outcomes == {
        place("berths / adds up"): "passed",
        place("berths / is closed"): "failed",
        place(WEIRD): "passed",
    }
    closed = run.results[place("berths / is closed")]
    assert (closed["message"], closed["seconds"]) == ("it does not add up", 0.25)
    assert closed["tags"] == ["category=billing"]


@pytest.mark.parametrize(("asked", "names"), [
    (("--tag", "smoke"), ["berths / adds up"]),
    (("--category", "billing"), ["berths / adds up", "berths / is closed"]),
    (("--name", "weird"), [WEIRD]),
    (("books/day.ledger:3",), ["berths / is closed"]),
    (("--tag", "slow"), [WEIRD]),
    (("--pick", "suite:ledger and not category:billing"), [WEIRD]),
])  # fmt: skip
def test_what_is_chosen_alone_runs_alone(ledger, asked, names):
    assert sorted(ledger.run(*asked).results) == sorted(place(name) for name in names)


@pytest.mark.parametrize("how", [
    'how = "joined"\nseparator = ";"\noption = "--joined"',
    'how = "pattern"\ndialect = "python"\noption = "--pattern"',
    'how = "list"\noption = "--list"',
])  # fmt: skip
def test_names_are_given_as_the_launcher_wants_them(ledger, how):
    text = (ledger.path / "ledger.toml").read_text()
    text = text.replace('option = "--only"\n', "").replace('how = "each"', how)
    (ledger.path / "ledger.toml").write_text(text)
    run = ledger.run("--drop", "name:closed")
    assert run.outcomes == {place("berths / adds up"): "passed", place(WEIRD): "passed"}


def test_files_may_be_all_that_can_be_chosen(ledger):
    ledger.file("say.py", 'import sys\nprint("1..2\\nok 1 - a\\nnot ok 2 - b")\nsys.exit(1)\n')
    ledger.file(
        "ledger.toml",
        """
        about = "says TAP"
        find = { files = ["*.ledger"] }
        run = { command = ["python3", "say.py", "{file}"], names = { how = "files" } }
        read = { format = "tap" }
    """,
    )
    run = ledger.run()
    told = run.results["books/day.ledger"]
    assert (told["outcome"], told["message"]) == ("failed", "1 of 2 failed")
    assert [(part["name"], part["outcome"]) for part in told["parts"]] == [
        ("a", "passed"), ("b", "failed"),
    ]  # fmt: skip
    assert ledger.run("--name", "day").code == 1


def test_the_schema_is_that_of_the_program():
    schema = json.loads((DOCS / "bridge.schema.json").read_text())
    made = TypeAdapter(Bridge).json_schema()
    assert schema["$defs"] == made["$defs"]
    example = (DOCS / "bridges.md").read_text().split("# bridges/ledger.toml\n")[1]
    jsonschema.validate(tomllib.loads(example.partition("```")[0]), schema)


def test_a_bridge_file_is_checked(ledger):
    text = (ledger.path / "ledger.toml").read_text()
    text = text.replace('how = "each"', 'how = "eech"').replace("[read]", "[read]\nfrmat = 1")
    (ledger.path / "ledger.toml").write_text(text)
    shown = ledger.call("list")
    assert shown.code == 2
    assert "unknown run.names.how 'eech'; did you mean each?" in shown.err
    assert "unknown key 'read.frmat'; did you mean format?" in shown.err


JAVA = """
    package harbour;

    @Suite(category = "billing")
    class LedgerTest {
        @Case("smoke") void addsUp() {}

        @Case void closes() {}

        void helper() {}

        class Inner {
            @Case @Slow void deep() {}
        }
    }
"""
QUERY = """
    [find.query]
    grammar = "java"
    text = '''
    (class_declaration name: (identifier) @group.name) @group
    (class_declaration (modifiers (annotation arguments: (annotation_argument_list
      (element_value_pair key: (identifier) @tag.key value: (string_literal) @tag.value))))
      name: (identifier) @group.name) @group
    (method_declaration (modifiers [
      (marker_annotation name: (identifier) @kind)
      (annotation name: (identifier) @kind
        arguments: (annotation_argument_list (string_literal) @tag))])
      name: (identifier) @test.name (#eq? @kind "Case")) @test
    (method_declaration (modifiers (marker_annotation name: (identifier) @kind)
      (marker_annotation name: (identifier) @tag)) name: (identifier) @test.name
      (#eq? @kind "Case")) @test
    '''
"""


def test_annotations_of_a_language_become_tags(ledger):
    text = (ledger.path / "ledger.toml").read_text()
    start, end = text.index("[find.lines]"), text.index("[run]")
    query = "\n".join(line[4:] for line in QUERY.splitlines())
    ledger.file("ledger.toml", text[:start] + query + "\n" + text[end:])
    (ledger.path / "ledger.toml").write_text(
        (ledger.path / "ledger.toml").read_text().replace("*.ledger", "*.java")
    )
    ledger.file("books/LedgerTest.java", JAVA)
    shown = json.loads(ledger.call("list", "--as", "json").out)
    told = {test["name"]: (test["line"], sorted(test["tags"])) for test in shown}
    assert told == {
        "LedgerTest / addsUp": (5, ["category=billing", "smoke"]),
        "LedgerTest / closes": (7, ["category=billing"]),
        "LedgerTest / Inner / deep": (12, ["Slow", "category=billing"]),
    }
    broken = (ledger.path / "ledger.toml").read_text().replace('"java"', '"cobol"')
    (ledger.path / "ledger.toml").write_text(broken)
    run = ledger.run()
    assert run.code != 0
    assert "the grammar 'cobol' is not installed" in run.out + run.err
