"""The selection language: as text, and on a workspace through the program."""

from __future__ import annotations

import json
import shlex

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import suite
from wolfbane.errors import ExpressionError
from wolfbane.model import Tag
from wolfbane.model import Test as Known
from wolfbane.selection import And, Matcher, Not, Or, Term, field_terms, parse

TESTS = [
    Known(
        "tides",
        "python",
        "tests/tides/test_heights.py",
        "HeightTest / test_high",
        5,
        9,
        (Tag("smoke"), Tag("billing", "category")),
    ),
    Known(
        "tides",
        "python",
        "tests/tides/deep/test_wide.py",
        "test_Season (full)",
        1,
        3,
        (Tag("smoke-slow"),),
    ),
    Known("log", "tap", "quay/t/parse.t", "", 1, 30, ()),
]
WORDS = st.text(st.characters(codec="utf-8", exclude_categories=("C",)), min_size=1).filter(
    lambda word: word.strip()
)
FIELDS = st.sampled_from(["tag", "name", "suite", "kind", "file", "status", "owner", "address"])


def words(style):
    return st.builds(lambda field, value: Term(field, value, style), FIELDS, WORDS)


REGEXES = st.builds(
    lambda field, value: Term(field, value, "regex"),
    FIELDS,
    st.sampled_from(["^a", "tide|fee", "a/b", r"\d+ \(x\)", r"\\", r"a\/b"]),
)
EXPRESSIONS = st.recursive(
    words("word") | words("quoted") | REGEXES,
    lambda inner: (
        st.builds(Not, inner)
        | st.builds(And, st.lists(inner, min_size=2, max_size=3).map(tuple))
        | st.builds(Or, st.lists(inner, min_size=2, max_size=3).map(tuple))
    ),
    max_leaves=8,
)


@given(EXPRESSIONS)
def test_what_is_printed_reads_back_with_the_same_meaning(expression):
    again = parse(str(expression))
    assert str(again) == str(expression)
    assert [Matcher(again)(t) for t in TESTS] == [Matcher(expression)(t) for t in TESTS]


@given(st.text())
def test_any_text_is_read_or_refused_with_a_place(text):
    try:
        parse(text)
    except ExpressionError as error:
        assert 0 <= error.position <= len(text)


@given(st.lists(WORDS, min_size=1, max_size=3))
def test_field_values_read_back_too(values):
    try:
        expression = field_terms("name", values)
    except ExpressionError:
        return
    assert str(parse(str(expression))) == str(expression)


@given(EXPRESSIONS, EXPRESSIONS)
def test_laws(left, right):
    def holds(expression):
        return [Matcher(expression)(test) for test in TESTS]

    assert holds(Not(And((left, right)))) == holds(Or((Not(left), Not(right))))
    assert holds(Not(Not(left))) == holds(left)


@pytest.mark.parametrize(
    ("text", "chosen"),
    [
        ("tag:smoke", [0]),
        ("tag:SMOKE", [0]),
        ("tag:smoke*", [0, 1]),
        ("tag:category=billing", [0]),
        ("category:billing", [0]),
        ("tag:billing", []),
        ("high", [0]),
        ("season", [1]),
        ("name:/season/", []),
        ("name:/Season/", [1]),
        ('name:"(full)"', [1]),
        ("name:test_*", [1]),
        ("file:tides", [0, 1]),
        ("file:test_heights.py", [0]),
        ("file:tests/tides/*", [0]),
        ("file:tests/**/test_*.py", [0, 1]),
        ('file:"tides"', []),
        ("file:tid", []),
        ("kind:tap or tag:smoke", [0, 2]),
        ("not suite:tides", [2]),
        ("suite:tides and not tag:smoke", [1]),
        ("tag:smoke,smoke-slow", [0, 1]),
        ("not (kind:tap or high)", [1]),
        ('at:"tests/tides/test_heights.py#HeightTest"', [0]),
        ("address:tests/tides/test_heights.py\\:7", [0]),
        ("at:tests/tides/test_heights.py\\:4", []),
        ("at:quay/t/parse.t\\:7", [2]),
        ("status:new", [0, 1, 2]),
        ("name:parse.t", [2]),
    ],
)
def test_meaning(text, chosen):
    matcher = Matcher(parse(text))
    assert [index for index, test in enumerate(TESTS) if matcher(test)] == chosen


@pytest.mark.parametrize(
    ("text", "message", "position"),
    [
        ("tag:a and (tag:b", "this '(' has no matching ')'", 10),
        ("tag:a)", "has no matching '('", 5),
        ("tag:a tag:b", "connect terms", 6),
        ("tag:a and", "expected a term here, found the end", 9),
        ("", "empty", 0),
        ("or tag:a", "found 'or'", 0),
        ("tag:'a", "closing quote ' is missing", 4),
        ("name:/a(/", "regular expression", 7),
        ("tag:", "expected a value after 'tag:'", 4),
    ],
)
def test_errors_point_at_the_place(text, message, position):
    with pytest.raises(ExpressionError, match=None) as caught:
        parse(text)
    assert message in str(caught.value)
    assert caught.value.position == position


@pytest.fixture
def harbour(folder):
    folder.write(
        wolfbane_toml='[workspace]\nleave_out = "tag:wip"\n'
        + suite("tides", "python", "tests", tags=["unit"])
        + suite("log", "tap", "t")
        + '[[tag]]\nname = "slow"\nmatch = "name:season"\n',
        tests__test_high_py="""
        \"\"\"High water.

        And more.\"\"\"
        # tags: owner=quay

        import unittest

        def tag(*words):
            def put(function):
                function.tags = words
                return function
            return put

        class HighTest(unittest.TestCase):
            tags = ["wet"]

            # tags: smoke, category=billing
            def test_one(self):
                pass

            @tag("smoke")
            def test_two(self):
                pass

        # tags: wip
        def test_later():
            raise RuntimeError
        """,
        tests__deep__test_season_py="""
        import unittest

        class Base:
            def test_inherited(self):
                pass

        class SeasonTest(Base, unittest.TestCase):
            pass
        """,
        t__a_t="#!/bin/sh\n# tags: smoke\necho 1..1\necho ok 1 - tide @calm\n",
    )
    return folder


ONE = "tests/test_high.py#HighTest / test_one"
TWO = "tests/test_high.py#HighTest / test_two"
LATER = "tests/test_high.py#test_later"
SEASON = "tests/deep/test_season.py#SeasonTest / test_inherited"
LOG = "t/a.t"


@pytest.mark.parametrize(
    ("arguments", "chosen"),
    [
        ([], [LOG, ONE, SEASON, TWO]),
        (["--everything"], [LATER, LOG, ONE, SEASON, TWO]),
        (["tests"], [ONE, SEASON, TWO]),
        (["tests/deep", "t/a.t"], [LOG, SEASON]),
        (["tests/*.py"], [ONE, TWO]),
        (["tests/test_high.py:18"], [ONE]),
        (["tests/test_high.py:14"], [ONE, TWO]),
        ([ONE], [ONE]),
        (["tests/test_high.py#HighTest"], [ONE, TWO]),
        (["--tag", "smoke"], [LOG, ONE, TWO]),
        (["--tag", "smoke,slow"], [LOG, ONE, SEASON, TWO]),
        (["--tag", "smoke", "--kind", "python"], [ONE, TWO]),
        (["--category", "billing"], [ONE]),
        (["--pick", "owner:quay and tag:wet", "--drop", "name:two"], [ONE]),
        (["--tag", "unit", "--drop", "tag:slow", "--drop", "category:billing"], [TWO]),
        (["--name", "inherited"], [SEASON]),
        (["--suite", "log", "--suite", "tides", "--file", "test_season.py"], [SEASON]),
        (["--tag", "slow"], [SEASON]),
    ],
)
def test_choosing(harbour, arguments, chosen):
    before = harbour.call("list", "--as", "json", *arguments)
    run = harbour.run(*arguments)
    assert sorted(run.results) == sorted(chosen), run.out + run.err
    assert before.code == 0
    listed = [line for line in before.out.splitlines() if '"address"' in line]
    assert len(listed) == len(chosen)


def test_left_out_is_said(harbour):
    run = harbour.run()
    assert "left out   1 by leave_out tag:wip" in run.out
    assert (
        "2 tests in 1 file would run" in harbour.call("run", "--dry-run", "tests/test_high.py").out
    )


@pytest.mark.parametrize("command", [["run"], ["list"], ["run", "--dry-run"]])
def test_nothing_chosen_names_the_nearest_word(harbour, command):
    run = harbour.call(*command, "--tag", "smok", "--suite", "tides")
    assert run.code == 3
    assert "tag:smok matches 0 of 5 tests; did you mean tag:smoke (3)?" in run.err
    assert "suite:tides matches 4 of 5 tests" in run.err
    wip = harbour.call(*command, "--tag", "wip")
    assert wip.code == 3
    assert "1 excluded by leave_out tag:wip" in wip.err
    assert "--everything" in wip.err


def test_a_dead_term_in_a_larger_expression_is_warned_of(harbour):
    run = harbour.run("--pick", "tag:smoke or tag:slwo", "--quiet")
    assert run.code == 0
    assert "tag:slwo matches 0 of 5 tests; did you mean tag:slow (1)?" in run.out


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["--suite", "tide"], "unknown suite 'tide'; did you mean tides?"),
        (["--kind", "pyton"], "unknown kind 'pyton'; did you mean python?"),
        (["--browser", "x"], "unknown browser 'x'; this workspace has no browser"),
        (["--pick", "ownr:quay"], "unknown field 'ownr:'; did you mean owner?"),
        (["--pick", "(tag:a"], "this '(' has no matching ')'\n  (tag:a\n  ^"),
        (
            ["tests/test_hihg.py"],
            "'tests/test_hihg.py' does not exist; did you mean tests/test_high.py?",
        ),
        (["tests/test_high.py:2"], "tests/test_high.py:2: there is no test on this line"),
        (["/etc"], "'/etc' is outside the workspace"),
    ],
)
def test_bad_selections(harbour, arguments, message):
    run = harbour.call("run", *arguments)
    assert run.code == 2
    assert message in run.err


def test_status_reads_the_newest_outcome(folder):
    folder.write(test_a_py="def test_good(): pass\ndef test_bad(): assert 0\n")
    folder.run()
    assert folder.run("--status", "failed").outcomes == {"test_a.py#test_bad": "failed"}
    folder.run("--name", "good")
    assert list(folder.run("--status", "failed").results) == ["test_a.py#test_bad"]
    assert folder.call("run", "--status", "new").code == 3


def test_failed_means_the_same_everywhere(folder):
    folder.write(
        wolfbane_toml=suite("a", "python", "test_a.py") + suite("b", "python", "b", python="none"),
        test_a_py="""
        import os, time
        def test_good(): pass
        def test_bad(): assert 0
        def test_error(): 1 / 0
        def test_lost(): os._exit(3)
        def test_slow(): time.sleep(60)
        """,
        b__test_b_py="def test_away(): pass\n",
    )
    run = folder.run("--timeout", "1")
    message = "5 failed (1 assertion, 1 errored, 1 timed out, 1 crashed, 1 blocked)"
    assert f"5 of 6 tests failed: 1 passed, {message}" in run.text
    assert "5 of 6 tests failed" in folder.call("runs", COLUMNS="200").text
    assert "1 passed, 5 failed" in folder.call("history", COLUMNS="200").text
    again = shlex.split(folder.call("again", "--failed", "--print-command").out)
    failed = {a for a, outcome in run.outcomes.items() if outcome != "passed"}
    assert failed <= set(again)
    listed = {
        status: {
            row["address"]
            for row in json.loads(folder.call("list", "--status", status, "--as", "json").out)
        }
        for status in ("failed", "assertion", "errored")
    }
    assert listed == {
        "failed": failed,
        "assertion": {"test_a.py#test_bad"},
        "errored": {"test_a.py#test_error"},
    }


def test_paths_are_read_from_the_users_folder(harbour):
    run = harbour.call("run", "../t", "-w", "..")
    assert run.code == 2
    harbour.path = harbour.path / "tests"
    assert "1 test in 1 file would run" in harbour.call("run", "--dry-run", "deep").out
    assert "t/a.t" in harbour.call("list", "../t").out


def test_explain(harbour):
    plain = harbour.call(
        "explain", "test_one", "--tag", "smoke", "--drop", "owner:quay or tag:x"
    ).out
    for message in (
        "tests/test_high.py, line 18 to 19",
        "smoke             from comment on line 17",
        "owner=quay        from file head",
        "wet               from class HighTest",
        "unit              from suite tides",
        "holds  owner:quay",
        "not    tag:x",
        "matches: excludes the test",
        "not selected",
    ):
        assert message in plain
    unknown = harbour.call("explain", "test_onee")
    assert (unknown.code, "did you mean" in unknown.err) == (2, True)


def test_what_the_source_does_not_show_is_never_passed_over(folder):
    folder.write(
        base_py="""
        import unittest
        class Base(unittest.TestCase):
            def test_old(self): pass
        """,
        test_inherits_py="""
        import base
        class Inherits(base.Base):
            pass
        """,
        test_marked_py="""
        def wet(function):
            function.tags = ["wet"]
            return function

        @wet
        def test_marked(): pass
        """,
    )
    assert list(folder.run("--name", "old").results) == ["test_inherits.py#Inherits / test_old"]
    assert list(folder.run("--tag", "wet").results) == ["test_marked.py#test_marked"]
    assert folder.call("run", "--name", "new").code == 3
    base = (folder.path / "base.py").read_text()
    folder.file("base.py", base.replace("test_old", "test_new_one"))
    assert list(folder.run("--name", "new").results) == ["test_inherits.py#Inherits / test_new_one"]
