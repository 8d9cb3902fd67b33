"""The TAP reader, and suites of kind tap."""

from __future__ import annotations

import shutil
import subprocess

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import suite
from wolfbane.formats.tap.parser import TapReader


def read(text):
    reader = TapReader()
    for line in text.splitlines():
        reader.feed(line)
    return reader.finish()


CASES = {
    "plan first": ("1..2\nok 1 - a\nok 2 - b\n", ["passed", "passed"], []),
    "plan last": ("ok 1 a\nnot ok 2 b\n1..2\n", ["passed", "failed"], []),
    "version 14": ("TAP version 14\n1..1\nok 1 - \\# not a directive \\\\\n", ["passed"], []),
    "no numbers": ("1..2\nok\nok - named\n", ["passed", "passed"], []),
    "skip": ("1..1\nok 1 - a # SKIP no wind\n", ["skipped"], []),
    "skipped with a colon": ("1..1\nok 1 # skip: no wind\n", ["skipped"], []),
    "todo": ("1..2\nnot ok 1 # TODO later\nok 2 # todo done\n", ["todo", "passed"], []),
    "a failed skip": ("1..1\nnot ok 1 - a # SKIP odd\n", ["failed"], []),
    "hash in a name": ("1..1\nok 1 - berth #5 # of 9\n", ["passed"], []),
    "no plan": ("ok 1\n", ["passed"], ["there is no plan, so the output may be incomplete"]),
    "too few": ("1..3\nok 1\n", ["passed"], ["the plan is 3 points, but the program printed 1"]),
    "too many": (
        "1..1\nok\nok\n",
        ["passed"] * 2,
        ["the plan is 1 point, but the program printed 2"],
    ),
    "a backslash": ("1..1\nok 1 a\\\\b\n", ["passed"], []),
    "two plans": ("1..1\nok 1\n1..1\n", ["passed"], ["a second plan, '1..1'"]),
    "out of order": (
        "1..2\nok 2\nok 1\n",
        ["passed"] * 2,
        ["found point 2, expected point 1", "found point 1, expected point 2"],
    ),
    "after the plan": (
        "ok 1\n1..2\nok 2\n",
        ["passed"] * 2,
        ["found point 2 after the final plan"],
    ),
    "stray": ("hello\n1..1\n  indented\nok 1\nokay then\n", ["passed"], []),
    "strict": (
        "TAP version 14\npragma +strict\n1..1\nhello\nok 1\n",
        ["passed"],
        ["not a TAP line, although the program requested strict mode: hello"],
    ),
    "bail out": ("1..9\nok 1\nBail out! the quay is flooded\n", ["passed"], []),
    "open yaml": (
        "1..1\nnot ok 1\n  ---\n  at: x\n",
        ["failed"],
        ["the stream ends inside a YAML block"],
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_documents(name):
    text, outcomes, problems = CASES[name]
    document = read(text)
    assert [point.outcome for point in document.points] == outcomes
    assert document.problems == problems


def test_details():
    document = read("""TAP version 13
1..4
ok 1 - a \\# b # SKIP no wind today
not ok 2 - gauge
  ---
  message: too low
  at:
    file: t/gauge.t
    line: 17
  ...
# Subtest: berths
    1..2
    ok 1 - A1
    not ok 2 - A2
        #   at t/berths.t line 9.
not ok 3 - berths
not ok 4 - height
#   at t/height.t line 5.
""")
    first, second, third, fourth = document.points
    assert (first.name, first.reason) == ("a # b", "no wind today")
    assert (second.file, second.line) == ("t/gauge.t", 17)
    assert [(p.name, p.outcome) for p in third.points] == [("A1", "passed"), ("A2", "failed")]
    assert (fourth.file, fourth.line) == ("t/height.t", 5)
    assert read("1..0 # SKIP no gauge here").skip_reason == "no gauge here"
    assert read("Bail out! flood").bail_out == "flood"


@given(st.text())
def test_any_text_is_read_without_trouble(text):
    read(text)


NAMES = st.text(st.characters(codec="utf-8", exclude_categories=("C", "Z")), max_size=20)


@given(st.lists(st.tuples(st.booleans(), NAMES)))
def test_every_point_comes_back(points):
    lines = ["TAP version 14", f"1..{len(points)}"]
    for number, (held, name) in enumerate(points, 1):
        escaped = name.replace("\\", "\\\\").replace("#", "\\#")
        lines.append(f"{'ok' if held else 'not ok'} {number} - {escaped}")
    document = read("\n".join(lines))
    assert document.problems == []
    assert [(p.ok, p.name) for p in document.points] == points


PROGRAMS = {
    "good.t": ("#!/bin/sh\necho 1..2; echo ok 1 - a; echo ok 2 - b # SKIP x\n", "passed", ""),
    "bad.t": (
        "#!/bin/sh\necho 1..1; echo not ok 1 - low; exit 1\n",
        "failed",
        "1 of 1 points failed",
    ),
    "exit.t": (
        "#!/bin/sh\necho 1..1; echo ok; exit 7\n",
        "errored",
        "exit code 7, although no point",
    ),
    "mute.t": ("#!/bin/sh\necho hello\n", "errored", "the program printed no TAP (exit code 0)"),
    "skip.t": ("#!/bin/sh\necho '1..0 # SKIP no gauge'\n", "skipped", "no gauge"),
    "bail.t": (
        "#!/bin/sh\necho 1..3; echo 'Bail out! flood'; exit 255\n",
        "errored",
        "Bail out! flood",
    ),
    "dies.t": ("#!/bin/sh\necho 1..1; kill -SEGV $$\n", "crashed", "SIGSEGV"),
    "slow.t": (
        "#!/bin/sh\necho 1..3; echo ok 1 - high; echo ok; echo waiting; sleep 600\n",
        "timed out",
        "longer than 3 s",
    ),
    "gone.t": (
        "#!/no/such/interpreter\n",
        "blocked",
        "interpreter '/no/such/interpreter' not found",
    ),
    "tail.t": ("#!/bin/sh\necho 1..1; echo ok 1; sleep 600 &\n", "passed", ""),
    "tcl.t": ("#!/usr/bin/env tclsh\nputs 1..1\nputs {ok 1 - tcl}\n", "passed", ""),
    "mapped.tide": ("print('1..1'); print('ok')\n", "passed", ""),
}


def test_programs(folder):
    for name, (text, _, _) in PROGRAMS.items():
        folder.file(f"t/{name}", text, mode=0o755)
    how = {"interpreters": {".tide": "python3"}, "timeout": "3s"}
    folder.file("wolfbane.toml", suite("log", "tap", "t/*", **how))
    needs = {"tcl.t": "tclsh"}
    expected = {
        f"t/{name}": outcome
        for name, (_, outcome, _) in PROGRAMS.items()
        if shutil.which(needs.get(name, "sh"))
    }
    run = folder.run(*(expected), "-j", "2")
    assert run.outcomes == expected, run.out
    for name, (_, _, message) in PROGRAMS.items():
        assert message in run.results.get(f"t/{name}", {"message": message})["message"]
    assert "waiting" in run.results["t/slow.t"]["output"]
    assert [part["name"] for part in run.results["t/slow.t"]["parts"]] == ["high"]


def test_a_compiled_program(folder):
    source = folder.file("gauge.c", '#include <stdio.h>\nint main(){puts("1..1\\nok 1 - c");}\n')
    compiler = shutil.which("cc")
    if compiler is None:
        pytest.skip("no C compiler here")
    (folder.path / "t").mkdir()
    subprocess.run([compiler, str(source), "-o", str(folder.path / "t" / "gauge.t")], check=True)
    assert folder.run("t").outcomes == {"t/gauge.t": "passed"}


PERL = r"""
use strict;
use warnings;
use Test::More;

ok 1, 'fine';
is 2 + 2, 5, 'sums';
subtest 'inside' => sub { plan tests => 1; ok 0, 'deep' };
TODO: { local $TODO = 'later'; ok 0, 'not yet' }
done_testing;
"""


@pytest.mark.skipif(not shutil.which("perl"), reason="no Perl here")
def test_perl_says_where_a_point_failed(folder):
    folder.file("t/a.t", PERL)
    run = folder.run()
    result = run.results["t/a.t"]
    assert [(p["outcome"], p["line"]) for p in result["parts"]] == [
        ("passed", 0),
        ("failed", 6),
        ("failed", 7),
        ("todo", 8),
    ]
    assert result["excerpt"]["line"] == 6
    assert "2 of 4 points failed" in run.out and "failed  sums  (t/a.t:6)" in run.out
    assert "|      expected: '5'" in run.out
    verbose = folder.call("show", "--verbose").out
    assert "failed  deep" in verbose and "todo  not yet" in verbose


@pytest.mark.skipif(not shutil.which("perl"), reason="no Perl here")
def test_points_equal_the_runtimes_own_harness(folder):
    folder.file("t/a.t", PERL)
    folder.file("t/b.t", "print qq(1..3\\nok 1\\nok 2 # skip x\\nnot ok 3 # TODO y\\n);")
    script = (
        "use TAP::Harness; my $harness = TAP::Harness->new({verbosity => -3});"
        "my $a = $harness->runtests(sort glob 't/*.t');"
        "print STDERR join ' ', 'counts', $a->total, scalar $a->failed, scalar $a->skipped;"
    )
    own = subprocess.run(
        ["perl", "-e", script], cwd=folder.path, capture_output=True, text=True, check=False
    )
    total = int(own.stderr.rpartition("counts ")[2].split()[0])
    assert sum(len(result["parts"]) for result in folder.run().results.values()) == total == 7


def test_a_broken_environment_of_python_is_none_of_their_business(folder):
    folder.file(".venv/bin/python", "#!/bin/sh\nexit 9\n", 0o755)
    folder.file(".venv/pyvenv.cfg", "")
    folder.file("t/a.t", 'print "1..1\\nok 1\\n";\n')
    folder.file("t/b.py", "print('1..1'); print('ok 1')\n")
    folder.file("wolfbane.toml", suite("quay", "tap", "t/*.t", "t/*.py"))
    run = folder.run()
    assert run.outcomes == {"t/a.t": "passed", "t/b.py": "blocked"}
    assert "cannot start the Python interpreter" in run.results["t/b.py"]["message"]
