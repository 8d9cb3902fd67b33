"""What a launcher does wrong is said: nothing that it leaves unsaid or mixes up is success."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bridged import WEIRD, example, place, rewrite
from conftest import present, suite
from wolfbane.kinds.bridge.draft import Draft, pattern_of, written
from wolfbane.kinds.bridge.queries import queried
from wolfbane.kinds.bridge.runner.calls import escaped

ECHO = """
    import json, re, sys

    names = json.load(open("names.json", encoding="utf-8"))
    if sys.argv[1] == "--list":
        print(json.dumps([{"name": name, "file": "all.echo"} for name in names]))
        sys.exit()
    how, report, *told = sys.argv[1:]
    if how == "joined":
        told = told[0].split("\\x1f")
    elif how == "pattern":
        told = [name for name in names if re.search(told[0], name)]
    elif how == "list":
        told = open(told[0], encoding="utf-8").read().split("\\n")[:-1]
    with open(report, "w", encoding="utf-8") as out:
        for name in told:
            outcome = "passed" if name in names else "failed"
            out.write(json.dumps({"name": name, "outcome": outcome}) + "\\n")
"""
LISTED = """
    about = "an echo"

    [find]
    files = ["*.echo"]

    [find.listing]
    command = ["python3", "echo.py", "--list"]
    format = "json"

    [run]
    command = ["python3", "echo.py", "HOW", "{report}", "{names}"]
    names = { how = "HOW", dialect = "python", separator = "\\u001f" }

    [read]
    format = "events"
    report = "{scratch}/told.jsonl"
"""
NAMES = [
    "plain",
    "with 'one' and \"two\" quotes",
    "  spaced  out  ",
    "[x] (y) {z} <w> {names} {file}",
    "$HOME `id` $(touch gone) ; & | > x",
    "back\\slash \\n \\1 ^.*+?$",
    "-v",
    "--only=x",
    "#1 // %",
    "línea à la mode: 潮汐 🌊",
    "a / b",
    "a, b",
    "tab\there",
    "e\u0301 is not \u00e9",
]
BROKEN = "two\nlines"


def echo(folder, how):
    """A suite whose launcher says which names arrived."""
    folder.file("wolfbane.toml", suite("echo", "bridge", "all.echo", bridge="b.toml"))
    folder.file("b.toml", LISTED.replace("HOW", how))
    folder.file("echo.py", ECHO)
    folder.file("all.echo", "")
    folder.file("names.json", json.dumps([*NAMES, BROKEN]))


@pytest.mark.parametrize("how", ["each", "joined", "pattern", "list"])
def test_names_arrive_exactly(folder, how):
    echo(folder, how)
    run = folder.run("--drop", "name:plain")
    told = {f"all.echo#{name}": "passed" for name in NAMES[1:]}
    told[f"all.echo#{BROKEN}"] = "errored" if how == "list" else "passed"
    assert run.outcomes == told
    assert not (folder.path / "gone").exists()
    if how == "list":
        message = "the test name contains a line break, but names are given one per line"
        assert run.results[f"all.echo#{BROKEN}"]["message"] == message
    assert "two\\nlines" in folder.call("list").out


def test_a_separator_in_a_name_is_said(folder):
    echo(folder, "joined")
    bridge = folder.path / "b.toml"
    bridge.write_text(bridge.read_text().replace("\\u001f", ", "))
    run = folder.run("--name", "/^a, b$/")
    message = "the test name contains ', ', which is the separator between names"
    assert [result["message"] for result in run.results.values()] == [message]


def test_names_that_come_again_are_told_apart(ledger):
    entries = ["adds up", "adds up", "is closed", "adds up"]
    text = "".join(f'  entry "{name}"{" wrong" * (n == 1)}\n' for n, name in enumerate(entries))
    (ledger.path / "books" / "day.ledger").write_text(f'account "x"\n{text}')
    expected = {
        place("x / adds up"): "passed",
        place("x / adds up (2)"): "failed",
        place("x / is closed"): "passed",
        place("x / adds up (3)"): "passed",
    }
    assert ledger.run().outcomes == expected
    alone = ledger.run("--name", "(2)")
    assert alone.outcomes[place("x / adds up (2)")] == "failed"


def test_more_names_than_a_command_line_holds_are_given_in_several(ledger):
    entries = "".join(f'  entry "{"n" * 200} {n}"\n' for n in range(900))
    (ledger.path / "books" / "day.ledger").write_text(f'account "x"\n{entries}')
    run = ledger.run()
    assert (run.code, len(run.outcomes)) == (0, 900)


def test_a_child_that_a_launcher_leaves_behind_holds_nothing_up(folder):
    example(folder, "pumps")
    checker = folder.path / "checker.sh"
    checker.write_text("sleep 300 &\n" + checker.read_text())
    run = folder.run("checks/north.pump", "--timeout", "20s", WOLFBANE_TEST_MARK=str(folder.path))
    assert run.outcomes == {"checks/north.pump": "passed"}
    assert folder.processes() == []


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "no element found"),
        ("<testsuites/>", "no result was reported"),
        (
            '<!DOCTYPE t [<!ENTITY a "a">]><testsuite>&a;</testsuite>',
            "document type declaration, which is not allowed",
        ),
        ("<testsuite><testcase name='x'", "not well-formed"),
    ],
)
def test_reports_that_are_none(ledger, text, message):
    told_in_xml(ledger, text)
    run = ledger.run()
    assert run.code == 1
    assert set(run.outcomes.values()) == {"errored"}
    assert message in run.out


def test_a_launcher_that_does_not_end_is_ended(ledger):
    ledger.file("launcher.py", "import time\ntime.sleep(600)\n")
    run = ledger.run("--timeout", "0.4s")
    assert set(run.outcomes.values()) == {"timed out"}
    assert "the launcher ran longer than 0.4 s" in run.out


@pytest.mark.parametrize(
    ("text", "mode", "message"),
    [
        ('entry "a" lost\nentry "b"', -1, "no result was reported"),
        (
            'entry "a"',
            3,
            "the launcher ended unexpectedly (exit code 3), although its report is complete",
        ),
        ('entry "a"', 1, "no failed tests in the report, but the exit code is 1"),
        ('entry "a" wrong', 0, "tests failed in the report, but the exit code is 0"),
        ('entry "a" lost', 0, "no result was reported"),
    ],
)
def test_silence_is_never_success(ledger, text, mode, message):
    lines = "".join(f"  {line}\n" for line in text.splitlines())
    (ledger.path / "books" / "day.ledger").write_text(f'account "x"\n{lines}')
    ledger.file("mode", str(mode))
    run = ledger.run()
    assert run.code == 1
    assert message in " ".join(result["message"] for result in run.results.values())


def test_a_stale_report_is_not_read(ledger):
    settings = (ledger.path / "ledger.toml").read_text()
    settings = settings.replace('"--to", "{report}"', '"--to", "none"')
    settings = settings.replace("{scratch}/told.jsonl", "told.jsonl")
    (ledger.path / "ledger.toml").write_text(settings)
    ledger.file("told.jsonl", '{"name": "berths.adds up", "outcome": "passed"}\n')
    run = ledger.run("--tag", "smoke")
    assert run.outcomes == {place("berths / adds up"): "errored"}
    assert "wrote no report to told.jsonl" in run.out


def test_what_lay_there_before_is_not_read_with_what_is_put_behind_it(ledger):
    rewrite(ledger, ("{scratch}/told.jsonl", "told.jsonl"))
    launcher = (ledger.path / "launcher.py").read_text()
    ledger.file("launcher.py", launcher.replace('open(report, "w"', 'open(report, "a"'))
    ledger.run()
    text = (ledger.path / "books" / "day.ledger").read_text()
    (ledger.path / "books" / "day.ledger").write_text(text.replace("fine", "lost"))
    assert ledger.run("--drop", "name:closed").outcomes == {
        place("berths / adds up"): "passed",
        place(WEIRD): "errored",
    }


TURNS = """
    import json, os, sys

    report, *names = sys.argv[1:]
    os.close(os.open("turn", os.O_CREAT | os.O_EXCL))
    with open(report, "w") as out:
        for name in names:
            out.write(json.dumps({"name": name, "outcome": "passed"}) + "\\n")
    os.remove("turn")
"""


def test_starts_whose_reports_are_at_one_place_take_turns(folder):
    shared(folder, "file")
    folder.file("launcher.py", TURNS)
    for number in range(8):
        folder.file(f"books/{number}.count", "count up\ncount down\n")
    settings = folder.path / "b.toml"
    text = settings.read_text().replace("{scratch}/told", "told.jsonl")
    settings.write_text(text.replace('how = "each"', 'how = "each", name = "{stem}.{name}"'))
    run = folder.run("-j4", "--drop", "file:books/*y.count", "--drop", "file:books/night.count")
    assert (run.code, len(run.outcomes), set(run.outcomes.values())) == (0, 16, {"passed"}), run.out


def test_what_nobody_knew_is_added_and_marked(ledger):
    ledger.file("books/day.ledger", 'account "x"\n  entry "a" extra\n')
    run = ledger.run("--verbose")
    assert run.outcomes == {place("x / a"): "passed", place("surprise"): "passed"}
    assert run.results[place("surprise")]["account"] == "added"
    assert "added: the launcher reported this test, but it was not known before the run" in run.out
    assert (
        f"the launcher reported a test that was not found before the run: {place('surprise')}"
        in run.out
    )


def test_what_ran_and_was_not_chosen_is_marked_and_what_was_left_out_is_not_told(ledger):
    told = [
        {"name": "berths.adds up", "outcome": "passed"},
        {"name": "berths.is closed", "outcome": "failed"},
        {"name": WEIRD.replace(" / ", "."), "outcome": "skipped"},
        {"name": "one more", "outcome": "skipped"},
    ]
    lines = "\n".join(map(json.dumps, told))
    ledger.file(
        "launcher.py", f"import sys\nopen(sys.argv[-2], 'w').write({lines!r})\nsys.exit(1)\n"
    )
    run = ledger.run("--tag", "smoke")
    assert run.outcomes == {
        place("berths / adds up"): "passed",
        place("berths / is closed"): "failed",
    }
    assert run.results[place("berths / is closed")]["account"] == "unasked"
    assert "the launcher ran a test that was not selected" in run.out


def test_files_whose_every_part_is_skipped_are_no_success(ledger):
    rewrite(ledger, ('"{names}", ', ""), ('how = "each"', 'how = "files"'), ('"events"', '"tap"'))
    for told in ("1..2\\nok 1 - a # SKIP no tide\\nok 2 - b # SKIP", "1..0 # SKIP no tide"):
        ledger.file("launcher.py", f"import sys; open(sys.argv[-2], 'w').write('{told}\\n')\n")
        run = ledger.run()
        assert (run.code, run.outcomes) == (3, {"books/day.ledger": "skipped"}), run.out
        assert run.results["books/day.ledger"]["message"] == "no tide"


ENGINES = {
    "python": [
        "python3",
        "-c",
        "import re, sys; a = sys.argv[1:]; "
        "[print(int(bool(re.search(*pair)))) for pair in zip(a[::2], a[1::2])]",
    ],
    "pcre": [
        "perl",
        "-e",
        "print $ARGV[1] =~ /$ARGV[0]/ ? 1 : 0, qq(\n) and splice @ARGV, 0, 2 while @ARGV",
    ],
    "javascript": [
        "node",
        "-e",
        "for (let a = process.argv.slice(1); a.length; a.splice(0, 2)) "
        "console.log(+new RegExp(a[0]).test(a[1]))",
    ],
    "tcl": ["tclsh", "match.tcl"],
    "posix": [
        "bash",
        "-c",
        "for (( ; $#; )); do [[ $2 =~ $1 ]]; echo $((! $?)); shift 2; done",
        "-",
    ],
}


@pytest.mark.parametrize("dialect", ENGINES)
def test_names_are_escaped_for_the_engine_that_reads_them(tmp_path, dialect):
    if not present(ENGINES[dialect][0]):
        pytest.skip(f"{ENGINES[dialect][0]} is not here")
    script = "foreach {pattern text} $argv {puts [regexp -- $pattern $text]}\n"
    (tmp_path / "match.tcl").write_text(script)
    pairs = [
        (f"^({escaped(name, dialect)})$", text)
        for name in [*NAMES, BROKEN]
        for text in (name, f"{name}x")
    ]
    done = subprocess.run(
        [*ENGINES[dialect], *(word for pair in pairs for word in pair)],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    matched = [pair for pair, result in zip(pairs, done.stdout.split()) if result == "1"]
    assert matched == pairs[::2], done.stderr


@given(st.text(st.characters(exclude_categories=("Cs",))))
def test_any_name_is_escaped(name):
    assert re.fullmatch(escaped(name, "python"), name)
    assert not re.fullmatch(escaped(name, "python"), f"{name}x")


WORDS = st.text(st.characters(categories=("Ll", "Nd")), min_size=1)


@given(
    st.text(st.characters(exclude_categories=("C", "Z"))), WORDS, st.sampled_from(['"', "'", ""])
)
def test_a_line_makes_a_pattern_for_lines_like_it(before, name, quote):
    pattern = pattern_of(f"  {before} {quote}NAME{quote} {{")
    match = re.search(pattern, f"\t{before} {quote}{name}{quote} {{")
    assert match and match["name"] == name


RERUN = """
    <testsuites><testsuite name="day">
      <testcase classname="berths" name="adds up" time="0.5">
        <flakyFailure message="18.50 are owed"><stackTrace>at line 2</stackTrace></flakyFailure>
        <system-out>
          [[ATTACHMENT|page.png]]
          [[ATTACHMENT|gone.txt]]
          [[ATTACHMENT|said.log]]
        </system-out>
      </testcase>
      <testcase classname="berths" name="is closed">
        <failure message="it is open"/><rerunFailure message="it is open still"/>
      </testcase>
    </testsuite></testsuites>
"""


def told_in_xml(folder, report):
    """The ledger, whose launcher leaves just this report."""
    settings = (folder.path / "ledger.toml").read_text()
    command = '["sh", "-c", "cat told > $0; exit $(cat code)", "{report}", "{names}"]'
    start = settings.index("command =")
    settings = f"{settings[:start]}command = {command}{settings[settings.index(chr(10), start) :]}"
    settings = settings.replace('"events"', '"xunit"')
    settings += 'name = "{group}.{name}"\n'
    (folder.path / "ledger.toml").write_text(settings)
    folder.file("told", report)
    folder.file("code", "1")


def test_what_a_launcher_ran_again_is_in_plain_sight(ledger):
    told_in_xml(ledger, RERUN)
    picture = b"\x89PNG\r\n\x1a\n" + bytes(range(256))
    (ledger.path / "page.png").write_bytes(picture)
    ledger.file("said.log", "the tide is high\n")
    run = ledger.run("--drop", "name:weird")
    flaky, failed = run.results[place("berths / adds up")], run.results[place("berths / is closed")]
    assert (flaky["outcome"], failed["outcome"]) == ("flaky", "failed")
    assert [each["message"] for each in flaky["earlier"]] == ["18.50 are owed"]
    assert [each["message"] for each in failed["earlier"]] == ["it is open still"]
    [runs] = (ledger.path / ".wolfbane" / "runs").glob("2*")
    kept = {each["kind"]: runs / each["path"] for each in flaky["evidence"]}
    assert kept["screenshot"].read_bytes() == picture
    assert kept["log"].read_text() == "the tide is high\n"
    assert "18.50 are owed" in run.out
    ledger.file("code", "0")
    (ledger.path / "told").write_text(RERUN.replace('<failure message="it is open"/>', ""))
    again = ledger.run("--drop", "name:weird", "--flaky-fails")
    assert (again.code, set(again.outcomes.values())) == (1, {"flaky"})


@pytest.mark.parametrize("how", ["each", "files"])
def test_a_row_that_passed_when_run_again_makes_its_test_flaky(ledger, how):
    row = '<testcase classname="berths" name="adds up[{}]">{}</testcase>'
    rows = row.format(1, "") + row.format(2, '<flakyFailure message="late"/>')
    told_in_xml(ledger, f"<testsuite>{rows}</testsuite>")
    ledger.file("code", "0")
    rewrite(
        ledger,
        ('how = "each"', f'how = "{how}"'),
        (
            "[read]",
            r"""[read]
            part = '^(?P<test>[^\[]+)\[(?P<part>.*)\]$'""",
        ),
    )
    [result] = ledger.run("--name", "/day|adds/").results.values()
    assert (result["outcome"], [each["message"] for each in result["earlier"]]) == (
        "flaky",
        ["late"],
    )
    assert [part["outcome"] for part in result["parts"]] == ["passed", "passed"]


def test_a_failure_is_shown_at_the_line_that_its_text_names(ledger):
    said = "18.50 are owed\n  at check (books/day.ledger:3)\n  at launcher:9"
    case = f'<testcase classname="berths" name="is closed"><failure>{said}</failure></testcase>'
    told_in_xml(ledger, f"<testsuite>{case}</testsuite>")
    run = ledger.run("--name", "closed")
    assert '3 ◆   entry "is closed" wrong' in run.out and "at launcher:9" in run.out


_LAST = '{"name": "last", "status": "skipped"}]}}'
TOLD = {
    "xunit": ("<testsuite>", '<testcase name="@"/>', "</testsuite>"),
    "ctrf": ('{"results": {"tests": [', '{"name": "@", "status": "passed"},', _LAST),
    "events": ("", '{"name": "@", "outcome": "passed"}\n', ""),
    "tap": ("1..3\n", "ok - @\n", ""),
}
SLOW = """
    import glob, json, sys, time

    def heard():
        told = [open(path).read() for path in glob.glob(".wolfbane/runs/2*/journal.jsonl")]
        return '"a.slow#first"' in "".join(told)

    before, entry, after = json.load(open("told.json"))
    print("<a warning>", file=sys.stderr)
    print(before + entry.replace("@", "first") + entry.replace("@", "second"), end="", flush=True)
    limit = time.monotonic() + 20
    while not heard() and time.monotonic() < limit:
        pass
    print(entry.replace("@", "seen" if heard() else "unseen") + after, end="")
"""


@pytest.mark.parametrize(
    "grammar",
    ["java", "c-sharp", "php", "ruby", "go", "typescript", "tsx", "javascript", "rust"],
)
def test_the_query_of_a_draft_fits_its_grammar(grammar):
    text = written(Draft(["*"], "query", "run {names}", grammar=grammar))
    query = tomllib.loads(text)["find"]["query"]
    assert queried(b"", grammar, query["text"]) == []


@pytest.mark.parametrize("form", TOLD)
def test_a_test_is_told_as_soon_as_its_entry_is_whole(folder, form):
    folder.file("wolfbane.toml", suite("s", "bridge", "a.slow", bridge="b.toml"))
    folder.file("a.slow", "first\nsecond\nseen\n")
    folder.file("told.json", json.dumps(TOLD[form]))
    folder.file("slow.py", SLOW)
    folder.file(
        "b.toml",
        f"""
        about = "one that waits until it is heard"
        find = {{ files = ["*.slow"], lines = {{ test = '^(?P<name>\\w+)' }} }}
        run = {{ command = ["python3", "slow.py", "{{names}}"], names = {{ how = "each" }} }}
        read = {{ format = "{form}", report = "" }}
    """,
    )
    run = folder.run("--timeout", "20s")
    told = {f"a.slow#{name}": "passed" for name in ("first", "second", "seen")}
    assert (run.code, {**run.outcomes, **told}) == (0, run.outcomes), run.out
    assert run.results["a.slow#seen"]["seconds"] > 0  # since the previous entry


MEASURED = """
    import resource, subprocess, sys
    subprocess.run(sys.argv[1:], check=True)
    print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
"""


@pytest.mark.parametrize("form", ["xunit", "ctrf"])
def test_a_huge_report_is_never_held_whole(folder, form):
    folder.file("wolfbane.toml", suite("s", "bridge", "all.x", bridge="b.toml"))
    folder.file("all.x", "one\n")
    folder.file(
        "b.toml",
        f"""
        about = "one that says a lot"
        find = {{ files = ["*.x"], lines = {{ test = '^(?P<name>\\w+)' }} }}
        run = {{ command = ["cp", "report", "{{report}}"], names = {{ how = "files" }} }}
        read = {{ format = "{form}", report = "{{scratch}}/report" }}
    """,
    )
    folder.file("measure.py", MEASURED)
    said = "the tide is high " * 60_000
    case = f'<testcase name="n"><system-out>{said}</system-out></testcase>'
    if form == "ctrf":
        case = json.dumps({"name": "n", "status": "passed", "stdout": [said]}) + ","
    before, after = ("<testsuite>", "</testsuite>")
    if form == "ctrf":
        before, after = '{"results": {"tests": [', '{"name": "n", "status": "passed"}]}}'
    used = []
    for count in (1, 100):
        with (folder.path / "report").open("w") as report:
            report.write(before)
            report.writelines(case for _ in range(count))
            report.write(after)
        command = [sys.executable, "measure.py", *folder.command("run", "-q")]
        told = subprocess.run(command, cwd=folder.path, capture_output=True, text=True, check=True)
        used.append(int(told.stdout.split()[-1]))
    assert used[1] - used[0] < 30_000, "kilobytes, for a report of 100 MB"


def test_parameters_and_folders_arrive(folder):
    echo(folder, "each")
    with (folder.path / "wolfbane.toml").open("a") as settings:
        settings.write('[param.house]\ndefault = "the west quay; $HOME"\n[param.pier.x]\n')
    bridge = folder.path / "b.toml"
    more = '"{report}", "{param.house}", "<{param.pier.x}>", "{root}/{{file}}", '
    bridge.write_text(bridge.read_text().replace('"{report}", ', more))
    run = folder.run("--name", "plain", "--set", "pier.x=é")
    told = {name.partition("#")[2] for name in run.outcomes if "#" in name}
    assert told == {"plain", "the west quay; $HOME", "<é>", f"{folder.path}/{{file}}"}


SHARED = """
    import json, sys

    report, *names = sys.argv[1:]
    with open(report, "w") as out:
        for file, outcome in (("books/night.count", "passed"), ("books/day.count", "failed")):
            for number, line in enumerate(open(file)):
                if line.split()[-1] in names:
                    last = outcome if number else "passed"
                    entry = {"name": line.split()[-1], "outcome": last, "file": file}
                    out.write(json.dumps(entry) + "\\n")
"""


def shared(folder, per):
    """Two files with tests of one name; the launcher runs whatever is called so."""
    folder.file("wolfbane.toml", suite("s", "bridge", "books", bridge="b.toml"))
    folder.file("launcher.py", SHARED)
    for name in ("day", "night"):
        folder.file(f"books/{name}.count", "count up\ncount up\ncount down\n")
    folder.file(
        "b.toml",
        f"""
        about = "one that goes by names alone"
        find = {{ files = ["*.count"], lines = {{ test = '^count (?P<name>\\w+)' }} }}
        read = {{ format = "events", report = "{{scratch}}/told" }}
        [run]
        command = ["python3", "launcher.py", "{{report}}", "{{names}}"]
        names = {{ how = "each" }}
        per = "{per}"
        failed = [0]
    """,
    )


@pytest.mark.parametrize("per", ["test", "file", "suite"])
def test_what_another_file_says_is_not_this_ones(folder, per):
    shared(folder, per)
    day = {"up": "passed", "up (2)": "failed", "down": "failed"}
    run = folder.run("books/day.count")
    assert run.outcomes == {f"books/day.count#{name}": ended for name, ended in day.items()}
    again = folder.run("books/day.count#up (2)", "--retries", "1")
    assert again.results["books/day.count#up (2)"]["attempt"] == 2
    assert "books/day.count#up" not in again.outcomes
