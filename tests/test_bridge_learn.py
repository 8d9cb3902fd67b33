"""``wolfbane bridge learn``: from two commands to a bridge that holds."""

from __future__ import annotations

import shutil
import sys
import tomllib

import pexpect
import pytest
from benchmarks.launchers.written import Written, missing, read_launchers

LAUNCHERS = read_launchers()
SHELL = LAUNCHERS["sh-files"]
QUICK = [
    "awk-table",
    "go-packages",
    "java-annotations",
    "js-events",
    "perl-dots",
    "python-classes",
    "python-semicolons",
    "python-whole",
    "sh-files",
    "tcl-package",
]
"""A few of the launchers; ``make launchers`` learns all of them, and does more with each."""
LACKING = {name: missing(LAUNCHERS[name]) for name in QUICK}


def laid_out(folder):
    written = Written(SHELL, folder.path)
    written.lay_out()
    folder.file("wolfbane.toml", '# ours\n[workspace]\nname = "Quay"\n')
    return folder


@pytest.mark.parametrize(
    "name",
    [
        pytest.param(n, marks=pytest.mark.skipif(bool(LACKING[n]), reason=f"no {LACKING[n]} here"))
        for n in QUICK
    ],
)
def test_two_commands_are_enough(folder, name):
    written = Written(LAUNCHERS[name], folder.path)
    written.lay_out()
    before = {path for path in folder.path.rglob("*") if ".wolfbane" not in path.parts}
    assert written.learn() == 0, written.printed
    after = {path for path in folder.path.rglob("*") if ".wolfbane" not in path.parts}
    made = {"learned.toml", "wolfbane.toml", "answers.toml"}
    assert {path.name for path in after - before} <= made
    assert list(written.differences(brief=True)) == [], written.printed
    assert not (folder.path / "report.xml").exists(), "each start has its own"


def test_the_suite_is_added_and_no_file_is_overwritten(folder):
    laid_out(folder)
    both = ["--all", SHELL.all, "--one", SHELL.one, "--yes"]
    done = folder.call("bridge", "learn", "b/learned.toml", *both)
    assert done.code == 0, done.out
    settings = (folder.path / "wolfbane.toml").read_text()
    assert settings.startswith("# ours\n[workspace]") and 'name = "learned"' in settings
    again = folder.call("bridge", "learn", "b/learned.toml", "--all", "x", "--one", "y")
    assert (again.code, "the file already exists" in again.err) == (2, True)


@pytest.mark.skipif(not shutil.which("cc"), reason="no C compiler here")
def test_a_build_in_the_command_becomes_the_build_of_the_suite(folder):
    written = Written(LAUNCHERS["c-macros"], folder.path)
    written.lay_out()
    assert written.learn() == 0, written.printed
    settings = tomllib.loads((folder.path / "wolfbane.toml").read_text())["suite"][0]
    assert {key: settings[key] for key in ("build", "inputs", "outputs")} == {
        "build": ["make -s"],
        "inputs": ["*.c", "*.h", "Makefile", "checks/*.c"],
        "outputs": ["check"],
    }
    folder.file(".gitignore", "check\n.wolfbane/\n")
    for arguments in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "checks")):
        folder.git(*arguments)
    assert "building" in folder.run().out
    assert "building" not in folder.run().out
    (folder.path / "check").unlink()
    assert "building" in folder.run().out
    source = folder.path / "checks/fees.c"
    source.write_text(source.read_text() + "\n")
    assert list(folder.run("--changed", "HEAD").outcomes) == [
        "checks/fees.c#adults",
        "checks/fees.c#children",
    ]
    tides = folder.path / "checks/tides.c"
    tides.write_text(f'{tides.read_text()}// as in "fees.c"\n')
    folder.git("commit", "-q", "-m", "a mention", "checks/tides.c")
    assert len(folder.run("--changed", "HEAD").outcomes) == 5, "tides.c mentions fees.c"


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["--all", "ls && sh run-all.sh", "--one", "x"], "needs a shell; use --yes to allow it"),
        (
            ["--all", "sh run-all.sh | tee log", "--one", "x"],
            "the exit code of the command before '|' would be lost; put the command into a script",
        ),
        (
            ["--all", "sh $HOME/all.sh", "--one", "x"],
            "the command that must get the test names contains '$HOME/all.sh'",
        ),
        (["--all", "sh 'run", "--one", "x"], "No closing quotation"),
        (["--all", "sh run-all.sh"], "the command that runs one test was not given; use --one"),
        (["--all", "no-such-launcher", "--one", "x"], "cannot start 'no-such-launcher'"),
        (
            ["--all", "sh run-all.sh", "--one", "sh run-all.sh --only depth"],
            "the results of the tests were not recognized in the output: it has 4 lines, "
            "for example",
        ),
        (["--all", "sleep 60", "--one", "x", "--limit", "1s"], "took longer than 1 s"),
        (
            ["--all", "sh run-all.sh", "--one", "sh checks/tides.sh", "-w", "checks"],
            "b.toml: the file is outside the workspace",
        ),
        (["--answers", "answers.toml"], "answers.toml: unknown key 'al'; did you mean all?"),
    ],
)
def test_what_cannot_be_learnt_is_refused_with_the_reason(folder, arguments, message):
    laid_out(folder).file("answers.toml", 'al = "x"\n')
    done = folder.call("bridge", "learn", "b.toml", *arguments)
    assert done.code == 2, done.out
    assert message in " ".join(done.err.split())
    assert not (folder.path / "b.toml").exists()


def test_answers_come_from_a_file(folder):
    laid_out(folder).file("answers.toml", f'all = "{SHELL.all}"\none = "{SHELL.one}"')
    done = folder.call("bridge", "learn", "--answers", "answers.toml")
    assert done.code == 0, done.err
    assert 'bridge = "bridges/sh.toml"' in done.out, "nobody said yes: it is printed"
    assert "bridge" not in (folder.path / "wolfbane.toml").read_text()


GREEN = """
    import sys

    wanted = sys.argv[2:] if sys.argv[1:2] == ["--check"] else []
    group, failed = "", False
    for line in open("quay.spec"):
        words = line.split()
        if line.startswith("on "):
            group = words[1] + "."
        elif words and words[0] == "depth":
            group = "" if line.startswith("depth") else group
            if not wanted or group + words[1] in wanted:
                good = int(words[-1]) < 9
                failed |= not good
                print("fine" if good else "bad ", group + words[1])
    sys.exit(3 if failed else 0)
"""
SPEC = """
    depth fairway is 7

    on mast
      depth north is 4
      depth south is 8
"""


def test_a_green_suite_behind_a_shell(folder):
    for path, text in {"green.py": GREEN, "quay.spec": SPEC, "wolfbane.toml": ""}.items():
        folder.file(path, text)
    both = ["--all", "mkdir -p out && python3 green.py"]
    both += ["--one", "mkdir -p out && python3 green.py --check 'mast.south'"]
    done = folder.call("bridge", "learn", "learned.toml", *both, "--yes")
    bridge = (folder.path / "learned.toml").read_text()
    assert done.code == 0, f"{done.out}{done.err}\n{bridge}"
    assert """["sh", "-c", 'mkdir -p out && "$@"', "sh", "python3",""" in bridge
    assert "failed = [3]" in bridge, "south was broken on purpose"
    assert "is 8" in (folder.path / "quay.spec").read_text(), "but not here"
    assert 'name = "{group:.}{name}"' in bridge
    run = folder.run()
    assert run.outcomes == {
        "quay.spec#fairway": "passed",
        "quay.spec#mast / north": "passed",
        "quay.spec#mast / south": "passed",
    }
    folder.file("quay.spec", SPEC.replace("is 8", "is 10"))
    assert folder.run("--name", "south").outcomes == {"quay.spec#mast / south": "failed"}


LISTED = """
    import sys

    heights = {"flood": 7, "ebb": 2, "slack water": 5, "spring tide": 12}
    tests = [f"{name} at hour {hour}" for name in heights for hour in (6, 18)]
    if sys.argv[1:] == ["--list"]:
        print("Tests:", *[f"  - {test}" for test in tests], sep="\\n")
        sys.exit()
    wanted = sys.argv[2:] if sys.argv[1:2] == ["--check"] else tests
    bad = False
    for test in wanted:
        high = test.startswith("spring")
        bad |= high
        print("FAILED" if high else "PASSED", test)
    sys.exit(bad)
"""


def test_a_command_lists_tests_that_no_source_shows(folder):
    folder.file("gauge.py", LISTED)
    folder.file("wolfbane.toml", "")
    both = ["--all", "python3 gauge.py", "--one", "python3 gauge.py --check 'ebb at hour 6'"]
    done = folder.call("bridge", "learn", "learned.toml", *both, "--yes")
    assert (done.code, "a command that lists the tests: --list" in " ".join(done.err.split())) == (
        2,
        True,
    )
    listing = ["--list", "python3 gauge.py --list"]
    done = folder.call("bridge", "learn", "learned.toml", *both, *listing, "--yes")
    bridge = (folder.path / "learned.toml").read_text()
    assert done.code == 0, f"{done.out}{done.err}\n{bridge}"
    run = folder.run()
    assert len(run.outcomes) == 8
    assert [a for a, how in run.outcomes.items() if how == "failed"] == [
        "gauge.py#spring tide at hour 6",
        "gauge.py#spring tide at hour 18",
    ]
    assert folder.run("gauge.py#ebb at hour 18").outcomes == {"gauge.py#ebb at hour 18": "passed"}


CALLS = """
    const wanted = process.argv[2] === "--check" ? process.argv.slice(3) : [];
    let failed = false;
    global.check = (name, body) => {
      if (wanted.length && !wanted.includes(name)) return;
      try { body(); console.log(`ok ${name}`); }
      catch { failed = true; console.log(`failed ${name}`); }
    };
    for (const file of require("fs").readdirSync("specs").sort()) require(`./specs/${file}`);
    process.exit(failed ? 1 : 0);
"""
SPECS = r"""
    check('the mate\'s berth', () => {});
    check("a \"wide\" hull", () => {});
    check(
      'a name on its own line',
      () => { throw new Error("no") });
    check(`plain`, () => {});
    helper('the mate');
    function helper() {}
"""


@pytest.mark.skipif(not shutil.which("node"), reason="no node here")
def test_a_grammar_reads_what_lines_do_not(folder):
    folder.file("run.js", CALLS)
    folder.file("specs/berths.js", SPECS)
    folder.file("wolfbane.toml", "")
    both = ["--all", "node run.js", "--one", "node run.js --check plain"]
    done = folder.call("bridge", "learn", "learned.toml", *both, "--yes")
    bridge = (folder.path / "learned.toml").read_text()
    assert done.code == 0, f"{done.out}{done.err}\n{bridge}"
    assert "[find.query]" in bridge and '"^(check)$"' in bridge
    assert folder.run().outcomes == {
        "specs/berths.js#the mate's berth": "passed",
        'specs/berths.js#a "wide" hull': "passed",
        "specs/berths.js#a name on its own line": "failed",
        "specs/berths.js#plain": "passed",
    }


CASES = """
    import re, sys

    wanted = sys.argv[2:] if sys.argv[1:2] == ["--case"] else None
    found = [re.match(r"case (.*) = (\\d+)", line) for line in open("harbour.cases")]
    depths = {match[1]: int(match[2]) for match in found if match} | EXTRA
    bad = False
    for name, depth in depths.items():
        if wanted is None or name in wanted:
            bad |= depth > 9
            print(f"{name}: {'wrong' if depth > 9 else 'ok'}")
    sys.exit(bad)
"""


def cases(folder, extra):
    """A launcher, of whose tests one has a name without blanks."""
    folder.file("check.py", CASES.replace("EXTRA", repr(extra)))
    names = {"times": 3, "book a berth": 4, "fee (spring)": 12, "low water at noon": 2}
    folder.file("harbour.cases", "".join(f"case {name} = {n}\n" for name, n in names.items()))
    both = ["--all", "python3 check.py", "--one", "python3 check.py --case times"]
    return folder.call("bridge", "learn", "b.toml", *both, "--yes"), names


def test_one_example_does_not_decide_which_names_there_are(folder):
    done, names = cases(folder, {})
    assert done.code == 0, done.out
    assert 'bridge = "b.toml"' in (folder.path / "wolfbane.toml").read_text(), "it is new"
    assert folder.run().outcomes == {
        f"harbour.cases#{name}": "failed" if depth > 9 else "passed"
        for name, depth in names.items()
    }


def test_tests_of_the_report_that_no_source_shows_are_an_error(folder):
    done, _ = cases(folder, {"loop a": 1, "loop b": 2})
    assert done.code == 1
    message = "2 of the 6 tests in the report were not found in the sources: loop a, loop b"
    assert message in " ".join(done.out.split())


def test_the_launchers_own_words_are_asked_for(folder):
    program = CASES.replace("EXTRA", "{}")
    folder.file("check.py", program.replace("ok", "holds").replace("wrong", "sinks"))
    folder.file("harbour.cases", "case times = 3\ncase book a berth = 4\ncase fee = 12\n")
    both = ["--all", "python3 check.py", "--one", "python3 check.py --case times"]
    refused = folder.call("bridge", "learn", "b.toml", *both, "--yes")
    message = "not recognized in the output: it has 3 lines, for example 'times: holds'"
    assert (refused.code, message in " ".join(refused.err.split())) == (2, True)
    learn = pexpect.spawn(
        sys.executable,
        ["-m", "wolfbane", "bridge", "learn", "b.toml", *both],
        cwd=folder.path,
        env=folder.environment(),
        timeout=60,
        encoding="utf-8",
    )
    for question, answer in (
        ("passed:", "holds"),
        ("failed:", "sinks"),
        ("skipped:", ""),
        ("shows it", "times"),
        ("group of this test", ""),
        ("reason of a failure", ""),
        ("Add the suite", "y"),
    ):
        learn.expect(question)
        learn.sendline(answer)
    learn.expect(pexpect.EOF)
    outcomes = {"times": "passed", "book a berth": "passed", "fee": "failed"}
    assert folder.run().outcomes == {f"harbour.cases#{n}": how for n, how in outcomes.items()}
    folder.file("answers.toml", 'passed = "holds"\nfailed = ["sinks"]\nname = "times"\n')
    again = folder.call("bridge", "learn", "c.toml", *both, "--answers", "answers.toml", "--yes")
    assert again.code == 0, again.out


GATES = """
    import sys

    wanted = sys.argv[2::2]
    bad = 0
    for line in open("gates.list"):
        group, name, state = line.split()
        if not wanted or name in wanted:
            wrong = state == "shut"
            bad += wrong
            how = "sinks ~ it is shut" if wrong else "holds"
            print(f"{name} at {group} {how}")
    sys.exit(bad)
"""


def test_the_group_and_the_reason_are_marked_by_the_user(folder):
    folder.file("gates.py", GATES)
    folder.file("gates.list", "north high open\nsouth low shut\nsouth spare shut\n")
    folder.file("wolfbane.toml", "")
    message = 'passed = "holds"\nfailed = "sinks"\ngroup = "north"\nreason = "it is shut"\n'
    folder.file("answers.toml", message)
    both = ["--all", "python3 gates.py", "--one", "python3 gates.py --gate high"]
    done = folder.call("bridge", "learn", "b.toml", *both, "--answers", "answers.toml", "--yes")
    bridge = (folder.path / "b.toml").read_text()
    assert done.code == 0, f"{done.out}{done.err}{bridge}"
    run = folder.run()
    assert run.outcomes == {
        "gates.list#high": "passed",
        "gates.list#low": "failed",
        "gates.list#spare": "failed",
    }
    assert run.results["gates.list#low"]["message"] == "it is shut"
    assert "(?P<group>" in bridge, "and the exit code is the number of failures"


OTHER_LINE = """
    import sys

    wanted = sys.argv[2::2]
    bad, name = 0, ""
    for line in open("quay.checks"):
        word, _, rest = line.strip().partition(" ")
        if word == "case":
            name = rest
        elif not wanted or name in wanted:
            left, right = rest.split()
            bad += left != right
            print(f"  fine   {name}" if left == right else FAILURE)
    sys.exit(3 if bad else 0)
"""


@pytest.mark.parametrize(
    "failure", ['f"!! broken: {name} !!"', 'f"  {name} (broken: {left} is not {right})"']
)
def test_a_green_suite_whose_failures_have_another_line(folder, failure):
    folder.file("check.py", OTHER_LINE.replace("FAILURE", failure))
    folder.file("quay.checks", "case north gate\nequal 4 4\ncase south gate\nequal 5 5\n")
    folder.file("wolfbane.toml", "")
    folder.file("answers.toml", 'passed = "fine"\nfailed = "broken"\n')
    both = ["--all", "python3 check.py", "--one", "python3 check.py --case 'north gate'"]
    done = folder.call("bridge", "learn", "b.toml", *both, "--answers", "answers.toml", "--yes")
    assert done.code == 0, f"{done.out}{done.err}"
    assert "the test failed, exit code 3" in done.out
    folder.file("quay.checks", "case north gate\nequal 4 4\ncase south gate\nequal 5 6\n")
    run = folder.run()
    expected = {"quay.checks#north gate": "passed", "quay.checks#south gate": "failed"}
    assert run.outcomes == expected, (folder.path / "b.toml").read_text()
