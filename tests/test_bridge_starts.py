"""How launchers are started: by a line to one that stays up, after a set-up, by file and line."""

import json

import pytest

SUITE = """
    [[suite]]
    name = "lamps"
    kind = "bridge"
    paths = ["lamps"]
    bridge = "lamps.toml"
"""
BRIDGE = """
    about = "the lamp checker"

    [find]
    files = ["*.lamp"]

    [find.lines]
    group = '^on (?P<name>\\w+)'
    test = '^ *lamp (?P<name>\\w+)'

    [run]
    command = {command}
    {run}

    [run.names]
    how = "each"
    name = "{name}"

    [read]
    {read}
"""
LAMPS = """
    # of the quay
    lamp bow
    on mast
        lamp top wrong
        lamp low
"""
EVENTS = "format = 'events'"
STANDING = """
    import json, os, shlex, sys
    print("ready")
    open("starts.txt", "a").write(f"{os.getpid()}\\n")
    for line in sys.stdin:
        words = json.loads(line) if line.startswith("[") else shlex.split(line)
        file, *names = words
        print("asked", file=sys.stderr)
        for name in names:
            if "dies" in name:
                sys.exit(7)
            while "floods" in name:
                print("and on", file=sys.stderr)
            if "hangs" in name:
                import time
                time.sleep(600)
            bad = name.endswith("top")
            print(json.dumps({"name": name, "outcome": "failed" if bad else "passed"}), flush=True)
        print("done", int(any(name.endswith("top") for name in names)), flush=True)
"""
SERVE = """
    [run.serve]
    request = ["{{file}}", "{{names}}"]
    format = "{form}"
    done = '{done}'
"""


def lamps(folder, *, command, run="", name="{group:.}{name}", read=EVENTS, text=LAMPS):
    """A workspace of lamps, with the launcher of a test."""
    text_of = BRIDGE.replace("{command}", json.dumps(command)).replace("{run}", run)
    folder.file("lamps.toml", text_of.replace("{name}", name).replace("{read}", read))
    folder.file("wolfbane.toml", SUITE)
    folder.file("lamps/quay.lamp", text)
    return folder


@pytest.mark.parametrize("form", ["json", "words"])
@pytest.mark.parametrize("done", [r"^done (?P<code>\d+)$", "^done"])
def test_a_launcher_that_stays_up_is_started_once(folder, form, done):
    folder.file("standing.py", STANDING.replace('    print("ready")\n', ""))
    lamps(folder, command=["python3", "standing.py"], run=SERVE.format(form=form, done=done))
    for number in range(3):
        folder.file(f"lamps/more{number}.lamp", f"lamp more{number}\n")
    run = folder.run("-j", "1")
    assert run.outcomes == {
        "lamps/quay.lamp#bow": "passed",
        "lamps/quay.lamp#mast / top": "failed",
        "lamps/quay.lamp#mast / low": "passed",
        **{f"lamps/more{number}.lamp#more{number}": "passed" for number in range(3)},
    }
    assert run.code == 1
    assert len((folder.path / "starts.txt").read_text().split()) == 1


def test_a_launcher_that_dies_or_hangs_is_started_again(folder):
    folder.file("standing.py", STANDING.replace('    print("ready")\n', ""))
    text = "lamp dies\nlamp bow\n"
    serve = SERVE.format(form="json", done=r"^done (?P<code>\d+)$")
    lamps(folder, command=["python3", "standing.py"], run=f"per = 'test'\n{serve}", text=text)
    folder.file("lamps/slow.lamp", "lamp hangs\n")
    folder.file("lamps/some.lamp", "lamp floods\n")
    folder.file("lamps/then.lamp", "lamp stern\n")
    run = folder.run("-j", "1", "--timeout", "2")
    assert run.outcomes == {
        "lamps/quay.lamp#dies": "errored",
        "lamps/quay.lamp#bow": "passed",
        "lamps/slow.lamp#hangs": "timed out",
        "lamps/some.lamp#floods": "timed out",
        "lamps/then.lamp#stern": "passed",
    }
    assert "exit code 7" in run.out


def test_an_answer_that_makes_no_sense_is_no_success(folder):
    folder.file("standing.py", STANDING)  # it greets, which is no event
    lamps(folder, command=["python3", "standing.py"], run=SERVE.format(form="json", done="^done"))
    bridge = folder.path / "lamps.toml"
    bridge.write_text(bridge.read_text().replace('how = "each"', 'how = "each"\nomit = "never"'))
    run = folder.run("-j", "1")
    assert set(run.outcomes.values()) == {"errored"}
    assert "not an event" in run.out
    assert "asked" in run.out and '$ ["lamps/quay.lamp", "bow"' in run.out


LISTED = """
    import sys
    for place in sys.argv[1:]:
        print("ok" if place.endswith("quay.lamp:2") else "not ok", place)
    sys.exit(any(not place.endswith("quay.lamp:2") for place in sys.argv[1:]))
"""


def test_tests_are_named_by_file_and_line(folder):
    folder.file("by_line.py", LISTED)
    read = "format = 'lines'\npassed = '^ok (?P<name>.*)'\nfailed = '^not ok (?P<name>.*)'"
    command = ["python3", "by_line.py", "{names}"]
    lamps(folder, command=command, name="{file}:{line}", read=read, text=LAMPS)
    run = folder.run("--name", "bow", "--name", "low")
    assert run.outcomes == {
        "lamps/quay.lamp#bow": "passed",
        "lamps/quay.lamp#mast / low": "failed",
    }


TWO_REPORTS = """
    import json, sys
    scratch, names = sys.argv[1], sys.argv[2:]
    low = [name for name in names if "." in name]
    for name in low:
        mast, name = name.split(".")
        with open(f"{scratch}/mast.xml", "w") as report:
            report.write(f'<testsuite name="{mast}">')
            for each in low:
                report.write(f'<testcase classname="mast" name="{each[5:]}"/>')
            report.write("</testsuite>")
    if flat := [name for name in names if "." not in name]:
        with open(f"{scratch}/told.jsonl", "w") as report:
            for name in flat:
                report.write(json.dumps({"name": name, "outcome": "passed"}) + "\\n")
"""
READ_TWO = """format = "events"
    report = "{scratch}/told.jsonl"

    [[read.also]]
    format = "xunit"
    report = "{scratch}/*.xml"
    name = "{group}.{name}"
"""


@pytest.mark.parametrize(
    "chosen", [(), ("--name", "bow"), ("--name", "low")], ids=["both", "first", "second"]
)
def test_a_launcher_may_leave_reports_of_several_formats(folder, chosen):
    folder.file("two.py", TWO_REPORTS)
    lamps(folder, command=["python3", "two.py", "{scratch}", "{names}"], read=READ_TWO)
    run = folder.run(*chosen)
    assert run.code == 0, run.out
    assert set(run.outcomes.values()) == {"passed"}
    assert len(run.outcomes) == (1 if chosen else 3)


@pytest.mark.parametrize(
    ("before", "outcome"), [("echo up >> before.txt", "passed"), ("exit 3", "blocked")]
)
def test_a_set_up_comes_once_before_all_starts(folder, before, outcome):
    script = "import sys; print('ok', *sys.argv[1:2]); sys.exit(0)"
    folder.file("check.py", script)
    read = "format = 'lines'\npassed = '^ok (?P<name>.*)'\nfailed = '^no (?P<name>.*)'"
    lamps(
        folder,
        command=["python3", "check.py", "{names}"],
        read=read,
        run=f"before = ['{before}']\nper = 'test'",
    )
    assert "low" in folder.call("list").out
    assert not (folder.path / "before.txt").exists()
    run = folder.run("-j", "2")
    assert set(run.outcomes.values()) == {outcome}, run.out
    if outcome == "blocked":
        assert f"the set-up of the suite failed: {before} (exit code 3)" in run.out
    else:
        assert (folder.path / "before.txt").read_text() == "up\n"


@pytest.mark.parametrize(
    ("run", "read", "message"),
    [
        (SERVE.format(form="json", done="("), EVENTS, "move it to run.serve.request"),
        (SERVE.format(form="json", done=""), EVENTS, "'done' is empty; it must match the line"),
        ("", f"{EVENTS}\n[[read.also]]\nformat = 'tap'", "an additional report must be a file"),
        ("", f"{EVENTS}\n[[read.also]]\nformat = 'lines'\nreport = 'x'", "needs the patterns"),
    ],
)
def test_what_is_wrong_is_said(folder, run, read, message):
    lamps(folder, command=["python3", "check.py", "{names}"], run=run, read=read)
    done = folder.call("list")
    assert done.code == 2
    assert message in done.err, done.err
    assert "lamps.toml:" in done.err
