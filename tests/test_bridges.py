"""Suites behind a bridge: found by patterns, run by a launcher that nobody planned for."""

from __future__ import annotations

import json
import shutil
import tomllib
from pathlib import Path

import jsonschema
import pytest
from pydantic import TypeAdapter

from conftest import present
from wolfbane.workspace.bridge_tables import Bridge

DOCS = Path(__file__).parent.parent / "docs"

LAUNCHER = """
    import json, re, sys, time

    names, file, report = [], "", ""
    ALL, group = [], ""
    for line in open(sys.argv[-1], encoding="utf-8"):
        if line.startswith("account"):
            group = line.split('"')[1]
        if line.strip().startswith("entry"):
            ALL.append((group, line.split('"')[1]))
    words = sys.argv[1:]
    while words:
        word = words.pop(0)
        if word == "--only":
            names.append(words.pop(0))
        elif word == "--joined":
            names += words.pop(0).split(";")
        elif word == "--pattern":
            pattern = re.compile(words.pop(0))
            names = [f"{g}.{n}" for g, n in ALL if pattern.search(f"{g}.{n}")] or ["-"]
        elif word == "--list":
            names += open(words.pop(0), encoding="utf-8").read().splitlines()
        elif word == "--to":
            report = words.pop(0)
        else:
            file = word
    print("launched with", json.dumps(names))
    told, bad = [], False
    group = ""
    for line in open(file, encoding="utf-8"):
        if line.startswith("account"):
            group = line.split('"')[1]
        if line.strip().startswith("entry"):
            name, rest = re.match(r'\\s*entry "((?:[^"])*)"(.*)', line).groups()
            whole = f"{group}.{name}"
            if names and whole not in names:
                continue
            if "lost" in rest:
                continue
            failed = "wrong" in rest
            bad |= failed
            told.append({"name": whole, "outcome": "failed" if failed else "passed",
                         "seconds": 0.25, "message": "it does not add up" if failed else ""})
            if "extra" in rest:
                told.append({"name": "surprise", "outcome": "passed"})
    text = "".join(json.dumps(each) + "\\n" for each in told)
    if report != "none":
        open(report, "w", encoding="utf-8").write(text)
    sys.exit(MODE if (MODE := int(open("mode").read())) >= 0 else int(bad))
"""
BRIDGE = """
    about = "the ledger's launcher"

    [find]
    files = ["*.ledger"]

    [find.lines]
    test = '^\\s*entry "(?P<name>[^"]*)"'
    group = '^account "(?P<name>[^"]*)"'
    tag = '@(?:(?P<key>\\w+)=(?P<value>\\w+)|(?P<tag>\\w+))'

    [run]
    command = ["python3", "launcher.py", "{names}", "--to", "{report}", "{file}"]

    [run.names]
    how = "each"
    name = "{group}.{name}"
    option = "--only"

    [read]
    format = "events"
    report = "{scratch}/told.jsonl"
"""
LEDGER = """
    account "berths" @category=billing
      entry "adds up" @smoke
      entry "is closed" wrong
    account "boats"
      # tags: slow
      entry "is $weird [x] 'é' (a|b) *" fine
"""


@pytest.fixture
def ledger(folder):
    suite = (
        '[[suite]]\nname = "ledger"\nkind = "bridge"\npaths = ["books"]\nbridge = "ledger.toml"\n'
    )
    folder.file("wolfbane.toml", suite)
    folder.file("ledger.toml", BRIDGE)
    folder.file("launcher.py", LAUNCHER)
    folder.file("mode", "-1")
    folder.file("books/day.ledger", LEDGER)
    return folder


def place(name):
    return f"books/day.ledger#{name}"


WEIRD = "boats / is $weird [x] 'é' (a|b) *"


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


def test_names_arrive_exactly(ledger):
    run = ledger.run("--name", "weird", "-v")
    assert run.outcomes == {place(WEIRD): "passed"}


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


def test_a_child_that_a_launcher_leaves_behind_holds_nothing_up(folder):
    example(folder, "pumps")
    checker = folder.path / "checker.sh"
    checker.write_text("sleep 300 &\n" + checker.read_text())
    run = folder.run("checks/north.pump", "--timeout", "20s", WOLFBANE_TEST_MARK=str(folder.path))
    assert run.outcomes == {"checks/north.pump": "passed"}
    assert folder.processes() == []


@pytest.mark.parametrize(("text", "words"), [
    ("", "no element found"),
    ("<testsuites/>", "no result came back"),
    ('<!DOCTYPE t [<!ENTITY a "a">]><testsuite>&a;</testsuite>', "entities: refused"),
    ("<testsuite><testcase name='x'", "not well-formed"),
])  # fmt: skip
def test_reports_that_are_none(ledger, text, words):
    settings = (ledger.path / "ledger.toml").read_text()
    told = '["sh", "-c", "cat told > $0", "{report}", "{names}"]'
    start = settings.index("command =")
    settings = settings[:start] + "command = " + told + settings[settings.index("\n", start) :]
    settings = settings.replace('"events"', '"xunit"')
    (ledger.path / "ledger.toml").write_text(settings)
    (ledger.path / "told").write_text(text)
    run = ledger.run()
    assert run.code == 1
    assert set(run.outcomes.values()) == {"errored"}
    assert words in run.out


def test_a_launcher_that_does_not_end_is_ended(ledger):
    ledger.file("launcher.py", "import time\ntime.sleep(600)\n")
    run = ledger.run("--timeout", "0.4s")
    assert set(run.outcomes.values()) == {"timed out"}
    assert "the launcher ran longer than 1.2 s" in run.out


@pytest.mark.skipif(not present("tclsh"), reason="tclsh is not here")
def test_a_launcher_that_nobody_planned_for_takes_one_file(folder):
    run = example(folder, "tcl-package").run()
    assert run.outcomes == {
        "tests/berths.test#share-1.1": "passed", "tests/berths.test#share-1.2": "passed",
        "tests/berths.test#share-2.1": "failed", "tests/berths.test#share-3.1": "skipped",
        "tests/gauge.test#gauge-1.1": "passed", "tests/gauge.test#gauge-1.2": "failed",
    }  # fmt: skip
    assert "---- Result was:\n1.0\n" in run.results["tests/berths.test#share-2.1"]["output"]
    assert list(folder.run("--category", "billing").outcomes.values()) == ["passed"] * 2
    assert list(folder.run("tests/gauge.test:6").results) == ["tests/gauge.test#gauge-1.1"]
    (folder.path / "tests" / "gauge.test").write_text("test gauge-1.1 {cut short\n")
    broken = folder.run("tests/gauge.test")
    assert list(broken.outcomes.values()) == ["errored"]


def example(folder, name, old="", new=""):
    """A copy of an example to work in, with something in its bridge replaced."""
    shutil.copytree(DOCS.parent / "examples" / "bridges" / name, folder.path / "quay")
    folder.path = folder.path / "quay"
    file = folder.path / "bridge.toml"
    assert old in file.read_text()
    file.write_text(file.read_text().replace(old, new))
    return folder


LAUNCHERS = {"tcl-package": "tclsh", "stations": "perl", "manifests": "node", "pumps": "sh"}


@pytest.mark.parametrize(("name", "told"), [
    ("tcl-package", ("found 6 tests in 2 files", "tags category=billing, smoke",
                     "2 of them: passed", "share-2.1: failed, and nothing else ran")),
    ("stations", ("found 5 tests in 1 file", "2 of them: passed", "falls by a third: failed")),
    ("manifests", ("found 4 tests in 1 file", "tags category=cargo, owner=quay",
                   "needs no ice pilot: failed, and nothing else ran")),
    ("pumps", ("found 3 tests in 3 files", "tags smoke", "south.pump: failed")),
])  # fmt: skip
def test_the_examples_hold(folder, name, told):
    if not present(LAUNCHERS[name]):
        pytest.skip(f"{LAUNCHERS[name]} is not here")
    checked = example(folder, name).call("bridge", "check", "bridge.toml")
    assert checked.code == 0, checked.out
    said = " ".join(checked.out.split())
    for words in (*told, "what was found is what came back", "it says what the report", "all is"):
        assert words in said
    assert not (folder.path / ".wolfbane" / "runs").exists()


@pytest.mark.parametrize(("name", "old", "new", "words"), [
    ("tcl-package", '"-match", "{names}"', '"-constraints", "{names}"', "ran too, when"),
    ("tcl-package", "PASSED$'", "PAST$'", "share-1.1: no result came back"),
    ("tcl-package", "failed = [0, 1]", "failed = [1]", "failed in the report, but the exit code"),
    ("tcl-package", "test\\s+", "proof\\s+", "no test was found"),
    ("tcl-package", '"tclsh", ', '"tclsh", "no.tcl", ', "no result came back (exit code 1)"),
    ("stations", 'dialect = "pcre"', 'whole = "{}"\ndialect = "glob"', "came back"),
    ("stations", 'name = "{group}/{name}"\n\n', 'name = "{group}-{name}"\n\n', "left no report"),
    ("manifests", 'name = "{suite} > {name}"', 'name = "{name}"', "no result came back"),
    ("pumps", 'format = "tap"', 'format = "xunit"', "not well-formed XML"),
])  # fmt: skip
def test_a_broken_bridge_is_told_by_a_line(folder, name, old, new, words):
    if not present(LAUNCHERS[name]):
        pytest.skip(f"{LAUNCHERS[name]} is not here")
    checked = example(folder, name, old, new).call("bridge", "check", "bridge.toml")
    assert checked.code == 1, checked.out + checked.err
    told = " ".join(checked.out.split())
    assert words in told and "wrong" in told


def test_a_bridge_that_no_suite_names(ledger):
    ledger.file("other.toml", "")
    refused = ledger.call("bridge", "check", "other.toml")
    assert (refused.code, "no suite names the bridge other.toml" in refused.err) == (2, True)


def test_the_schema_is_that_of_the_program():
    schema = json.loads((DOCS / "bridge.schema.json").read_text())
    made = TypeAdapter(Bridge).json_schema()
    assert schema["$defs"] == made["$defs"]
    example = (DOCS / "bridges.md").read_text().split("# bridges/ledger.toml\n")[1]
    jsonschema.validate(tomllib.loads(example.partition("```")[0]), schema)


@pytest.mark.parametrize(("text", "mode", "words"), [
    ('entry "a" lost\nentry "b"', -1, "no result came back"),
    ('entry "a"', 3, "the launcher ended: exit code 3, though its report is whole"),
    ('entry "a"', 1, "no test failed in the report, but the exit code is 1"),
    ('entry "a" wrong', 0, "tests failed in the report, but the exit code is 0"),
    ('entry "a" lost', 0, "no result came back"),
])  # fmt: skip
def test_silence_is_never_success(ledger, text, mode, words):
    lines = "".join(f"  {line}\n" for line in text.splitlines())
    (ledger.path / "books" / "day.ledger").write_text(f'account "x"\n{lines}')
    ledger.file("mode", str(mode))
    run = ledger.run()
    assert run.code == 1
    assert words in " ".join(result["message"] for result in run.results.values())


def test_a_stale_report_is_not_read(ledger):
    settings = (ledger.path / "ledger.toml").read_text()
    settings = settings.replace('"--to", "{report}"', '"--to", "none"')
    settings = settings.replace("{scratch}/told.jsonl", "told.jsonl")
    (ledger.path / "ledger.toml").write_text(settings)
    ledger.file("told.jsonl", '{"name": "berths.adds up", "outcome": "passed"}\n')
    refused = ledger.run("--tag", "smoke")
    assert (refused.code, "read.report is read" in refused.err) == (2, True)
    settings = settings.replace('"--to", "none"', '"--to", "none", "--in={scratch}"')
    (ledger.path / "ledger.toml").write_text(settings)
    run = ledger.run("--tag", "smoke")
    assert run.outcomes == {place("berths / adds up"): "errored"}
    assert "left no report at told.jsonl" in run.out


def test_what_nobody_knew_is_added(ledger):
    ledger.file("books/day.ledger", 'account "x"\n  entry "a" extra\n')
    run = ledger.run()
    assert run.outcomes == {place("x / a"): "passed", place("surprise"): "passed"}


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
