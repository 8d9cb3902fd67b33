"""What a run prints and writes: safe, complete, well-formed, and there again later."""

from __future__ import annotations

import json
import os
import pty
import re
import shlex
import subprocess
import tempfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from wolfbane.events.run_events import TestFinished as Finished
from wolfbane.formats.xunit.writer import write_xunit
from wolfbane.model import Outcome, Result
from wolfbane.reports.text import visible
from wolfbane.results.journal import Journal, read_journal
from wolfbane.results.record import Record

NASTY = r"""
import sys, unittest
class T(unittest.TestCase):
    def test_control(self):
        print("\x1b[31mred\x1b[0m \x1b]0;title\x07 \x07bell \x00 \x9b2J back\x08space")
        self.fail("\x1b[2Jcleared ]]> \ud800 \x00 <&>")
    def test_surrogate_printed(self):
        print("half \udc80 done")
        self.fail("see above")
    def test_huge(self):
        print("x" * 3_000_000)
        self.fail("y" * 3_000_000)
    def test_name(self):
        for n in ("\x1b[5m", "\ud800", "]]>"):
            with self.subTest(n): self.fail(n)
"""


def test_any_text_a_test_makes_is_safe(folder):
    folder.file("test_n.py", NASTY)
    xml = folder.path / "out" / "x.xml"
    run = folder.run("--report", f"xunit={xml}")
    assert run.code == 1
    assert set(run.outcomes.values()) == {"failed"}
    for text in (run.out, folder.call("show", "-v").out):
        assert not [c for c in text if (ord(c) < 32 and c != "\n") or 127 <= ord(c) < 160]
        assert "red" in text and "\\x07bell" in text and "half \\udc80 done" in text
    root = etree.parse(str(xml)).getroot()
    assert (root.get("tests"), root.get("failures")) == ("4", "4")
    assert xml.stat().st_size < 3_000_000


TEXTS = st.text(st.characters(codec=None))


@given(TEXTS)
def test_nothing_shown_moves_the_cursor(text):
    shown = visible(text)
    assert not [c for c in shown if (ord(c) < 32 and c not in "\n\t") or 127 <= ord(c) < 160]


@given(st.lists(st.tuples(TEXTS, TEXTS, st.sampled_from(Outcome)), max_size=4))
def test_xunit_is_well_formed_whatever_tests_say(rows):
    results = [
        Result(
            f"{n}", "s", "python", "p", name, outcome, 0.1, text, text, output=text, tags=(name,)
        )
        for n, (name, text, outcome) in enumerate(rows)
    ]
    root = etree.fromstring(write_xunit(Record(results=results)))
    assert len(root.findall(".//testcase")) == len(rows)


@given(st.text(), st.text(), st.sampled_from(Outcome))
def test_the_journal_gives_back_what_it_was_told(name, text, outcome):
    event = Finished(Result("a", "s", "python", "p", name, outcome, 0.5, text, output=text))
    with tempfile.TemporaryDirectory() as folder:
        with Journal(Path(folder)) as journal:
            journal(event)
        assert list(read_journal(Path(folder))) == [event]


HARBOUR = """
import unittest
class T(unittest.TestCase):
    def test_good(self): pass
    def test_bad(self):
        print("looking at berth 12")
        self.assertEqual("high\\nlow\\n", "high\\nhigh\\n")
    @unittest.skip("no wind")
    def test_skip(self): pass
"""


def test_a_failure_is_told_in_full(folder):
    folder.file("test_h.py", HARBOUR)
    out = folder.run().out
    for message in (
        "selected   3 tests in 1 file of 1 suite",
        "test_h.py  1 passed, 1 failed, 1 skipped",
        "failed  test_h.py#T / test_bad",
        "- low",
        "+ high",
        "  6 ◆         self.assertEqual(",
        "output:\n    looking at berth 12",
        "run it again: wolfbane run 'test_h.py#T / test_bad'",
        "1 of 3 tests failed: 1 passed, 1 failed, 1 skipped; ",
        "; exit 1; run",
    ):
        assert message in out, out
    assert max(len(line) for line in out.splitlines()) <= 80
    quiet = folder.run("--quiet").out
    assert "workspace" not in quiet and "failed  test_h.py#T / test_bad" in quiet
    verbose = folder.run("--verbose").out
    assert "skipped  test_h.py#T / test_skip" in verbose and "Traceback" in verbose


def test_show_prints_a_run_as_the_console_did(folder):
    folder.file("test_h.py", HARBOUR)
    first = folder.run()
    folder.file("test_h.py", "def test_other(): pass\n")
    folder.run()
    name = first.text.rpartition("run ")[2]
    assert folder.call("show", name).out == first.out
    assert "test_other" not in folder.call("show", name).out
    assert "1 test passed" in folder.call("show").out
    unknown = folder.call("show", name + "x")
    assert (unknown.code, f"did you mean {name}?" in unknown.err) == (2, True)


def test_a_run_folder_holds_journal_and_summary_alone(folder):
    folder.file("test_h.py", HARBOUR)
    folder.run()
    (run,) = (folder.path / ".wolfbane" / "runs").iterdir()
    assert sorted(path.name for path in run.iterdir()) == ["journal.jsonl", "summary.json"]
    types = [json.loads(line)["type"] for line in (run / "journal.jsonl").read_text().splitlines()]
    assert (types[0], types[-1]) == ("run-started", "run-finished")
    assert types.count("test-finished") == 3
    summary = json.loads((run / "summary.json").read_text())
    assert summary["finished"]["counts"] == {"passed": 1, "failed": 1, "skipped": 1}


@pytest.mark.parametrize(
    ("target", "message"),
    [
        ("xunitt=x.xml", "unknown format 'xunitt'; did you mean xunit?"),
        ("json", "use json=PATH"),
        ("json=.", "'.' is a folder"),
        ("json=test_h.py/x.json", "cannot write the report"),
    ],
)
def test_bad_report_targets(folder, target, message):
    folder.file("test_h.py", HARBOUR)
    run = folder.call("run", "--report", target)
    assert (run.code, message in run.err) == (2, True), run.err
    assert not (folder.path / ".wolfbane").exists()


def on_a_terminal(folder, *arguments, **environment):
    """What the program writes when its output is a terminal of 80 columns."""
    main, terminal = pty.openpty()
    subprocess.run(["stty", "cols", "80", "rows", "40"], stdin=terminal, check=True)
    own = {k: v for k, v in folder.environment().items() if k not in ("NO_COLOR", "COLUMNS")}
    process = subprocess.Popen(
        folder.command(*arguments),
        cwd=folder.path,
        stdout=terminal,
        stderr=terminal,
        stdin=terminal,
        env={**own, "TERM": "xterm-256color", **environment},
    )
    os.close(terminal)
    data = b""
    while True:
        try:
            chunk = os.read(main, 65536)
        except OSError:
            break
        data += chunk
    process.wait()
    os.close(main)
    return data.decode()


def test_colour_on_a_terminal_only(folder):
    folder.file("test_h.py", HARBOUR)
    assert "\x1b[" not in folder.call("run", NO_COLOR="").out
    assert "\x1b[1;38;5;" in on_a_terminal(folder, "run")
    plain = on_a_terminal(folder, "run", NO_COLOR="1")
    assert ";38;5;" not in plain and "[31m" not in plain


HOOKS = {
    "py/test_hooks.py": """
        import unittest
        class Quay(unittest.TestCase):
            @classmethod
            def tearDownClass(cls): raise ValueError("not tidy")
            def test_one(self): pass
        def tearDownModule(): raise ValueError("not tidy")
        """,
    "rules/quay.feature": """
        Feature: Quay
          Scenario: one
            Given a boat
        """,
    "rules/steps/quay.py": """
        from wolfbane.steps import after, given
        @given("a boat")
        def boat(): pass
        @after("feature")
        def tidy(): raise ValueError("not tidy")
        @after("run")
        def over(): raise ValueError("not over")
        """,
    "t/quay.t": "#!/bin/sh\necho 1..2\necho 'ok 1 - a'\necho 'not ok 2 - b'\n",
}


def test_run_it_again_chooses_what_brings_the_entry_back(folder):
    for name, text in HOOKS.items():
        folder.file(name, text, mode=0o755)
    run = folder.run()
    told = re.findall(
        r"^(?:failed|errored)  (.+?)$.+?run it again: wolfbane (.+?)$",
        run.out,
        re.DOTALL | re.MULTILINE,
    )
    assert {address for address, _ in told} == {
        "py/test_hooks.py#Quay / tearDownClass",
        "py/test_hooks.py#test_hooks / tearDownModule",
        "rules/quay.feature#after feature",
        "rules/steps#after run",
        "t/quay.t",
    }
    for address, command in told:
        again = folder.run(*shlex.split(command)[1:])
        assert again.outcomes.get(address) == run.outcomes[address], command


def test_what_befell_many_tests_is_printed_once_with_the_first_places(folder):
    folder.file("wolfbane.toml", '[[suite]]\nname = "r"\nkind = "scenario"\npaths = ["rules"]\n')
    for name in ("a", "b"):
        scenarios = "".join(f"  Scenario: s{n}\n    Given a boat\n" for n in range(200))
        folder.file(f"rules/{name}.feature", f"Feature: {name}\n{scenarios}")
    steps = folder.file("rules/steps/s.py", "def broken(:\n")
    told = folder.run().out
    assert len(told.splitlines()) < 40 and told.count("SyntaxError") == 1
    assert "399 more tests in 2 files with the same failure:\n    rules/" in told
    assert "    and 396 more\n" in told
    helper = "def check(): assert 1 == 2\n"
    steps.write_text(
        f"from wolfbane.steps import given\n{helper}@given('a boat')\ndef boat(): check()\n"
    )
    told = folder.run().out
    assert told.count("assertion failed: 1 == 2") == 1 and "399 more tests" in told
    assert folder.call("show", "last", "-v").out.count("assertion failed: 1 == 2") >= 400
    steps.write_text("")
    told = folder.run().out
    assert told.count("@given") == 1 and "  in:\n    rules/" in told


def test_a_file_that_loads_for_long_is_named(folder):
    folder.file("test_slow.py", "import time\ntime.sleep(2.5)\ndef test_b(): pass\n")
    run = folder.run("-j1", "--timeout", "20s")
    assert re.search(r"loading    test_slow\.py, \d+ s; 0 of 1 file loaded", run.out)
    late = folder.run("-j1", "--timeout", "1s", "test_slow.py")
    assert late.outcomes == {"test_slow.py": "timed out"}
    assert "the file was not loaded within 1 s" in late.out


def test_skipped_parts_are_counted(folder):
    folder.file(
        "test_a.py",
        """
        import unittest
        class A(unittest.TestCase):
            def test_parts(self):
                for number in range(3):
                    with self.subTest(number=number):
                        if number:
                            self.skipTest("closed")
                with self.subTest("last"):
                    pass
    """,
    )
    assert "(2 skipped)" in folder.run().out


def test_a_pipe_gets_no_controls_of_the_cursor_even_with_colours(folder):
    folder.file("test_a.py", "def test_a(): pass\n")
    out = folder.call("run", FORCE_COLOR="1", NO_COLOR="").out
    assert "\x1b[" in out, "colours were asked for"
    assert not re.search(r"\x1b\[(?:\?25|\d*[AK]|\d+[JH])", out)
