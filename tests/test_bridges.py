"""Suites behind a bridge: how tests are found, chosen and given to a launcher."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import jsonschema
import msgspec
import pytest

from bridged import SUITE, WEIRD, place, rewrite
from conftest import present, schema_facts
from wolfbane.kinds.bridge.tables import Bridge

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


@pytest.mark.parametrize(
    ("asked", "names"),
    [
        (("--tag", "smoke"), ["berths / adds up"]),
        (("--category", "billing"), ["berths / adds up", "berths / is closed"]),
        (("--name", "weird"), [WEIRD]),
        (("books/day.ledger:3",), ["berths / is closed"]),
        (("--tag", "slow"), [WEIRD]),
        (("--pick", "suite:ledger and not category:billing"), [WEIRD]),
    ],
)
def test_what_is_chosen_alone_runs_alone(ledger, asked, names):
    assert sorted(ledger.run(*asked).results) == sorted(place(name) for name in names)


@pytest.mark.parametrize(
    "how",
    [
        'how = "joined"\nseparator = ";"\noption = "--joined"',
        'how = "pattern"\ndialect = "python"\noption = "--pattern"',
        'how = "list"\noption = "--list"',
    ],
)
def test_names_are_given_as_the_launcher_wants_them(ledger, how):
    text = (ledger.path / "ledger.toml").read_text()
    text = text.replace('option = "--only"\n', "").replace('how = "each"', how)
    (ledger.path / "ledger.toml").write_text(text)
    run = ledger.run("--drop", "name:closed")
    assert run.outcomes == {place("berths / adds up"): "passed", place(WEIRD): "passed"}


def test_what_only_the_launcher_knows_runs_where_no_names_are_given(ledger):
    rewrite(
        ledger,
        ('entry "(?P<name>[^"]*)"', 'entry "(?P<name>[^"$]*)"'),
        ('how = "each"', 'how = "each"\nomit = "always"'),
    )
    both = {place("berths / adds up"): "passed", place("berths / is closed"): "failed"}
    assert ledger.run().outcomes == {**both, place("boats / is $weird [x] 'é' (a|b) *"): "passed"}
    assert ledger.run("--tag", "smoke").outcomes == {place("berths / adds up"): "passed"}
    checked = ledger.call("bridge", "check", "ledger.toml")
    assert (
        checked.code,
        "were not found run only if the launcher gets no names" in checked.text,
    ) == (0, True)


ROWS = """
    <testsuites><testsuite name="books">
      <testsuite name="is closed">
        <testcase name="in spring" time="0.5"/>
        <testcase name="in autumn"><failure message="a boat is in it"/></testcase>
      </testsuite>
      BEFORE
      <testcase name="adds up[1]" time="0.25"/>
      <testcase name="adds up[2]" time="0.5"><skipped/></testcase>
      AFTER
    </testsuite></testsuites>
"""


OWN = '<testcase name="adds up" time="2"/>'


@pytest.mark.parametrize(("before", "after"), [("", ""), (OWN, ""), ("", OWN)])
def test_what_is_told_in_rows_is_parts_of_a_test(ledger, before, after):
    ledger.file("rows.xml", ROWS.replace("BEFORE", before).replace("AFTER", after))
    command = '["sh", "-c", "cp rows.xml $0; exit 1", "{report}", "{names}"]'
    settings = (ledger.path / "ledger.toml").read_text()
    start = settings.index("command =")
    old = settings[start : settings.index("\n", start)]
    rewrite(
        ledger,
        (old, f"command = {command}"),
        ('"events"', '"xunit"'),
        ('"{group}.{name}"', '"{name}"'),
    )
    with (ledger.path / "ledger.toml").open("a") as bridge:
        bridge.write(r"""part = '^(?P<test>[^\[]+)\[(?P<part>.*)\]$'""")
    run = ledger.run("--drop", "name:weird")
    up, closed = run.results[place("berths / adds up")], run.results[place("berths / is closed")]
    assert (up["outcome"], up["seconds"], len(run.results)) == (
        "passed",
        2 if before or after else 0.75,
        2,
    )
    assert [(p["name"], p["outcome"]) for p in up["parts"]] == [("1", "passed"), ("2", "skipped")]
    assert (closed["outcome"], closed["seconds"]) == ("failed", 0.5)
    assert closed["message"] == "1 of 2 failed: a boat is in it"
    assert [part["name"] for part in closed["parts"]] == ["in spring", "in autumn"]


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
        ("a", "passed"),
        ("b", "failed"),
    ]
    assert ledger.run("--name", "day").code == 1


def test_the_schema_is_that_of_the_program():
    schema = json.loads((DOCS / "bridge.schema.json").read_text())
    assert schema_facts(schema) == schema_facts(msgspec.json.schema(Bridge)), "run docs/schemas.py"
    example = (DOCS / "bridges.md").read_text().split("# bridges/ledger.toml\n")[1]
    jsonschema.validate(tomllib.loads(example.partition("```")[0]), schema)


def test_a_bridge_file_is_checked(ledger):
    text = (ledger.path / "ledger.toml").read_text()
    text = text.replace('how = "each"', 'how = "eech"').replace("[read]", "[read]\nfrmat = 1")
    (ledger.path / "ledger.toml").write_text(text)
    shown = ledger.call("list")
    assert shown.code == 2
    assert "unknown how 'eech'; did you mean each?" in shown.err
    assert "unknown key 'frmat'; did you mean format?" in shown.err


JAVA = """
    package harbour;

    @Suite(Category = "billing")
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
    for asked in (("--category", "billing"), ("--pick", "Category:Billing")):
        assert "3 tests in 1 file" in ledger.call("list", *asked).out
    broken = (ledger.path / "ledger.toml").read_text().replace('"java"', '"cobol"')
    (ledger.path / "ledger.toml").write_text(broken)
    run = ledger.run()
    assert run.code != 0
    assert "the grammar 'cobol' is not installed" in run.out + run.err


COUNTED = """
    import json, os, re, sys

    report, *words = sys.argv[1:]
    names = [word[7:] for word in words if word.startswith("--only=")]
    files = [word for word in words if not word.startswith("--only=")] or sorted(os.listdir("."))
    with open("../starts", "a") as starts:
        starts.write(json.dumps(sorted(names)) + "\\n")
    with open(report, "w") as out:
        for file in files:
            for line in open(file) if file.endswith(".count") else ():
                if not names or line.split()[-1] in names:
                    entry = {"name": line.split()[-1], "outcome": "passed", "file": file}
                    out.write(json.dumps(entry) + "\\n")
        if "extra" in names:
            out.write('{"name": "surprise", "outcome": "passed"}\\n')
    sys.exit(5 if "odd" in names else 0)
"""
COUNTS = """
    about = "one that counts its starts"

    [find]
    files = ["*.count"]
    lines = { test = '^count (?P<name>\\w+)' }

    [run]
    command = ["python3", "../counted.py", "{report}", "--only={names}"]
    per = "file"
    names = { how = "each", omit = "never" }

    [read]
    format = "events"
    report = "{scratch}/told.jsonl"
"""


@pytest.fixture
def counted(folder):
    folder.file(
        "wolfbane.toml",
        '[[suite]]\nname = "c"\nkind = "bridge"\npaths = ["books"]\nfolder = "books"\n'
        'bridge = "ledger.toml"\n',
    )
    folder.file("counted.py", COUNTED)
    folder.file("ledger.toml", COUNTS)
    for number in range(1, 4):
        folder.file(f"books/{number}.count", f"count a{number}\ncount both\n")
    return folder


@pytest.mark.parametrize(
    ("per", "more", "starts"),
    [
        ("file", ', "{file}"', [["a1", "both"], ["a2", "both"], ["a3", "both"]]),
        ("file", ', "{files}"', [["a1", "both"], ["a2", "both"], ["a3", "both"]]),
        ("test", ', "{file}"', [["a1"], ["a2"], ["a3"], ["both"], ["both"], ["both"]]),
        ("batch", ', "{files}"', [["a1", "both"], ["a2", "both"], ["a3", "both"]]),
        ("suite", ', "{files}"', [["a1", "both"], ["a2", "a3", "both"]]),
        ("suite", "", [["a1", "a2", "a3", "both"]]),
    ],
)
def test_a_launcher_is_started_for_as_much_as_it_should(counted, per, more, starts):
    rewrite(counted, ('per = "file"', f'per = "{per}"'), ('{names}"]', f'{{names}}"{more}]'))
    run = counted.run("-j2")
    assert run.code == 0, run.out
    assert set(run.outcomes) == {
        f"books/{number}.count#{name}" for number in (1, 2, 3) for name in (f"a{number}", "both")
    }
    lines = (counted.path / "starts").read_text().splitlines()
    assert sorted(json.loads(line) for line in lines) == starts
    if per == "suite":  # it is known now that its report names the file of each test
        (counted.path / "starts").unlink()
        counted.run()
        assert (counted.path / "starts").read_text() == '["a1", "a2", "a3", "both"]\n'


def test_more_files_than_a_command_line_holds_are_given_in_several(counted):
    rewrite(
        counted,
        ('per = "file"', 'per = "suite"'),
        ('{names}"]', '{names}", "{files}"]'),
        ('"never"', '"always"'),
    )
    for number in range(600):
        counted.file(f"books/{'n' * 150}{number}.count", f"count many{number}\n")
    run = counted.run("--name", "many")
    starts = (counted.path / "starts").read_text().splitlines()
    assert (run.code, len(run.outcomes), starts) == (0, 600, ["[]"] * 2), run.out


def test_what_belongs_to_no_file_is_told_of_the_bridge(counted):
    rewrite(counted, ('per = "file"', 'per = "suite"'))
    counted.file("books/4.count", "count extra\ncount odd\n")
    run = counted.run()
    assert run.outcomes["ledger.toml#surprise"] == "passed"
    assert run.outcomes["ledger.toml"] == "errored"
    assert "(exit code 5), although its report is complete" in run.results["ledger.toml"]["message"]
    assert [*run.outcomes.values()].count("passed") == 9


def test_a_test_alone_is_timed_where_its_report_is_silent(counted):
    run = counted.run("--name", "a1")
    assert run.results["books/1.count#a1"]["seconds"] > 0


def test_a_plan_says_that_files_are_run_whole(ledger):
    rewrite(ledger, ('"{names}", ', ""), ('how = "each"', 'how = "files"'))
    plan = ledger.run("--dry-run")
    assert plan.out.splitlines()[:2] == [
        "books/day.ledger",
        "ledger: whole files will run, because the launcher does not accept test names",
    ]


LISTER = """
    import sys
    print("looking for tests", file=sys.stderr)
    text = open("told", encoding="utf-8").read()
    print(text.replace("FILE", sys.argv[1] if len(sys.argv) > 1 else "books/day.ledger"), end="")
    sys.exit(int(open("code").read()))
"""
LISTING = "[find.listing]\ncommand = {command}\nformat = {form}\n{more}"


def listing(ledger, form, told, *, more="", each=False, code=0):
    """The ledger, its tests found by a command that prints something."""
    ledger.file("lister.py", LISTER)
    ledger.file("code", str(code))
    (ledger.path / "told").write_text(told, encoding="utf-8")
    text = (ledger.path / "ledger.toml").read_text()
    start, end = text.index("[find.lines]"), text.index("[run]")
    command = json.dumps(["python3", "lister.py", *(["{file}"] if each else [])])
    result = LISTING.format(command=command, form=f'"{form}"', more=more)
    (ledger.path / "ledger.toml").write_text(text[:start] + result + "\n\n" + text[end:])


GROUPED = r"""
pattern = '^(?P<file>\S+):(?P<line>\d+) (?P<group>\w+)\.(?P<name>[^[]*\w)( \[(?P<tags>.*)\])?'
"""
OBJECT = '{"title": "adds up", "group": "berths", "file": "FILE", "tags": ["smoke"]}'


@pytest.mark.parametrize(
    ("form", "told", "options"),
    [
        (
            "names",
            "== tests\nFILE:2 berths.adds up [smoke,day]\nFILE:3 berths.is closed\n",
            {"more": GROUPED},
        ),
        (
            "json",
            '[{"name": "adds up", "group": "berths", "tags": ["smoke"], "line": 2},'
            ' {"name": "is closed", "group": "berths"}]',
            {"each": True},
        ),
        (
            "json",
            f'{{"all": [{OBJECT}, {OBJECT.replace("adds up", "is closed")}]}}',
            {"more": 'items = "$.all[*]"\nkeys = { name = "title" }'},
        ),
        (
            "json",
            f"{OBJECT}\n{OBJECT.replace('adds up', 'is closed')}\n",
            {"more": 'keys = { name = "title" }'},
        ),
        (
            "tap",
            "1..1\n# Subtest: berths\n    ok 1 - adds up\n    ok 2 - is closed\n    1..2\n"
            "ok 1 - berths\n",
            {"each": True},
        ),
        (
            "names",
            "berths.adds up\nberths.is closed\n",
            {"more": "pattern = '^(?P<group>\\w+)[.](?P<name>.*)'\nfile = \"books/day.ledger\"\n"},
        ),
    ],
)
def test_a_command_may_list_the_tests(ledger, form, told, options):
    listing(ledger, form, told, **options)
    before = ledger.call("list")
    assert (before.code, "1 file may show tests when loaded" in before.out) == (0, True)
    names = {"berths / adds up": "passed", "berths / is closed": "failed"}
    run = ledger.run()
    listed = {place(name): outcome for name, outcome in names.items()}
    assert run.outcomes == {**listed, place(WEIRD): "passed"}
    assert run.results[place(WEIRD)]["account"] == "added", "the launcher has it, the list does not"
    assert list(ledger.run("--name", "closed").outcomes) == [place("berths / is closed")]
    if "[smoke" in told:
        assert place("berths / adds up") in ledger.run("--tag", "smoke").outcomes
        assert ledger.call("list", "--exact").out == ledger.call("list").out
    elif "smoke" in told:
        assert "smoke" in ledger.call("list").out


def test_a_bridge_with_a_list_is_checked_before_any_run(ledger):
    listing(
        ledger, "names", "FILE:2 berths.adds up [smoke]\nFILE:3 berths.is closed\n", more=GROUPED
    )
    checked = ledger.call("bridge", "check", "ledger.toml")
    told = " ".join(checked.out.split())
    assert (checked.code, "found 2 tests in 1 file" in told) == (1, True), checked.out
    assert (
        "1 tests that were not found run only if the launcher gets no names: books/day.ledger#boats"
        in told
    )
    ledger.file("code", "3")
    ledger.file("books/eve.ledger", "")
    broken = ledger.call("bridge", "check", "ledger.toml")
    told = " ".join(broken.out.split())
    assert (broken.code, told.count("the list command failed: exit code 3")) == (1, 1), broken.out
    assert "books/day.ledger and 1 more" in told and "looking for tests" in told


def test_a_bridge_is_checked_against_an_environment(ledger):
    more = "[param.house]\nrequired = true\n[env.local]\nhouse = 'west'\n"
    ledger.file("wolfbane.toml", SUITE + more.replace("\n", "\n    "))
    rewrite(ledger, ('"launcher.py"', '"{param.house}.py"'))
    (ledger.path / "launcher.py").rename(ledger.path / "west.py")
    assert ledger.call("bridge", "check", "ledger.toml").code == 2
    check = ("bridge", "check", "ledger.toml")
    assert ledger.call(*check, "--env", "local").code == 0
    wrong = ledger.call(*check, "--env", "local", "--set", "house=east")
    told = " ".join(wrong.out.split())
    assert (wrong.code, "and 2 more: the launcher ended unexpectedly: exit code 2" in told) == (
        1,
        True,
    ), told
    assert "can't open file" in told and "-> check run.command" in told


@pytest.mark.parametrize(
    ("form", "told", "code", "message"),
    [
        ("names", "adds up\n", 3, "the list command failed: exit code 3\nlooking for tests"),
        ("names", "adds up\n", 0, "the list does not give the file of 'adds up'"),
        (
            "json",
            '[{"name": "a", "file": "books/night.ledger"}]',
            0,
            "but this file does not exist",
        ),
        ("json", "no tests\n", 0, "the list is not JSON"),
        ("json", '[{"nme": "a"}]', 0, "the list has an item without 'name'"),
        ("tap", "1..2\nok 1 - a\n", 0, "the list is not valid"),
    ],
)
def test_a_list_that_makes_no_sense_is_an_error(ledger, form, told, code, message):
    listing(ledger, form, told, code=code)
    ledger.file("books/eve.ledger", 'account "x"\n')
    run = ledger.run("-j1")
    files = ("books/day.ledger", "books/eve.ledger")
    assert (run.code, run.outcomes) == (1, dict.fromkeys(files, "errored"))
    assert all(message in run.results[file]["message"] for file in files)


def test_a_list_command_that_does_not_end_is_ended(ledger):
    listing(ledger, "names", "adds up\n")
    ledger.file("lister.py", "import time\ntime.sleep(600)\n")
    run = ledger.run("--timeout", "1s", WOLFBANE_TEST_MARK=str(ledger.path))
    assert run.outcomes == {"books/day.ledger": "timed out"}
    assert ledger.processes() == []


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        (
            '"{file}"]',
            '"{fle}"]',
            "ledger.toml:12: '{fle}': unknown placeholder {fle}; did you mean {file}?",
        ),
        (
            '"{file}"]',
            '"{param.hous}"]',
            "unknown placeholder {param.hous}; did you mean {param.house}?",
        ),
        ("[run]\n", '[run]\nper = "suite"\n', "{file} is one file, but run.per is 'suite'"),
        ("[run]\n", '[run]\nper = "suit"\n', "unknown per 'suit'; did you mean suite?"),
        ('how = "each"', 'how = "files"', ""),
        (
            '(?P<name>[^"]*)"\'\ngroup',
            '[^"]*"\'\ngroup',
            "the expression needs a group (?P<name>...)",
        ),
        ("[read]", "[read]\npart = '(?P<test>.*)'", "the expression needs a group (?P<part>...)"),
        ("[find.lines]", '[find.listing]\ncommand = []\nformat = "tap"\n[find.lines]', "is empty"),
        (
            "[find.lines]",
            "[find.query]\ngrammar = 'java'\ntext = ''\n[find.lines]",
            "use exactly one way",
        ),
    ],
)
def test_what_is_wrong_in_a_bridge_is_said_with_its_line(ledger, old, new, message):
    ledger.file("wolfbane.toml", SUITE + '\n    [param.house]\n    default = "quay"\n')
    rewrite(ledger, (old, new))
    shown = ledger.call("list")
    assert (shown.code, message in shown.err) == (2 if message else 0, True), shown.err
    assert not message or shown.err.startswith("wolfbane: ledger.toml:")


@pytest.mark.skipif(not present("chromedriver"), reason="no browser is here")
def test_a_launcher_is_told_the_browser_and_its_failures_leave_evidence(counted):
    settings = (counted.path / "wolfbane.toml").read_text()
    more = 'browsers = ["chromium"]\nwebdriver = { url = "HARBOUR_DRIVER" }\n'
    (counted.path / "wolfbane.toml").write_text(settings + more)
    counted.file("counted.py", OPENS)
    rewrite(counted, ('per = "file"', 'per = "test"'), ('{report}"', '{report}", "{browser}"'))
    run = counted.run("--name", "a1")
    [result] = run.results.values()
    assert result["message"] == "the title is a1 in chromium"
    assert {each["kind"] for each in result["evidence"]} >= {"screenshot", "protocol"}


OPENS = """
    import json, os, sys, urllib.request

    report, browser, name = sys.argv[1], sys.argv[2], sys.argv[3][7:]

    def call(path, body=None):
        data = json.dumps(body).encode() if body else None
        headers = {"Content-Type": "application/json"}
        place = os.environ["HARBOUR_DRIVER"] + path
        request = urllib.request.Request(place, data, headers)
        return json.load(urllib.request.urlopen(request))["value"]

    session = "/session/" + call("/session", {"capabilities": {}})["sessionId"]
    call(session + "/url", {"url": f"data:text/html,<title>{name} in {browser}</title>"})
    words = "the title is " + call(session + "/title")
    entry = {"name": name, "outcome": "failed", "message": words}
    open(report, "w").write(json.dumps(entry) + "\\n")
    sys.exit(1)
"""


def test_what_fails_behind_a_bridge_runs_again(counted):
    counted.file(
        "counted.py",
        """
        import json, os, sys

        first = not os.path.exists("../seen")
        open("../seen", "a").close()
        entry = {"name": sys.argv[2][7:], "outcome": "failed" if first else "passed"}
        open(sys.argv[1], "w").write(json.dumps({**entry, "message": "it is early"}))
        sys.exit(int(first))
    """,
    )
    run = counted.run("--name", "a1", "--retries", "1")
    result = run.results["books/1.count#a1"]
    assert (run.code, result["outcome"]) == (0, "flaky")
    assert [each["message"] for each in result["earlier"]] == ["it is early"]
