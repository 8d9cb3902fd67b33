"""Reports from elsewhere, in the dialects that launchers write, taken into the history."""

from __future__ import annotations

import contextlib
import json
import shutil

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wolfbane.formats.ctrf.reader import read_ctrf
from wolfbane.formats.reported import FormatError
from wolfbane.formats.xunit.reader import XunitReader
from wolfbane.model import Outcome

DIALECT = """<?xml version="1.0"?>
<testsuites>
 <testsuite name="outer" timestamp="2026-05-01T06:00:00">
  <properties><property name="host" value="quay"/></properties>
  <testsuite name="inner" file="ledger/test_entries.x">
   <testcase name="adds" classname="Ledger" time="1,000.5"/>
   <testcase name="fails"><failure>no luck&#10;at line 3</failure>
    <system-out>told [[ATTACHMENT|/a]]
[[ATTACHMENT|shots/one.png]]
</system-out></testcase>
   <testcase name="breaks" file="own.x" line="7"><failure message="first"/>
    <error message="second" type="timed out"/></testcase>
   <testcase name="rests" status="disabled"/>
   <testcase name="falls" result="failed"/>
   <testcase name="waits"><skipped><![CDATA[no wind]]></skipped></testcase>
   <testcase name="wavers"><flakyFailure message="late"><stackTrace>in a()</stackTrace>
     <system-out>once</system-out></flakyFailure></testcase>
   <testcase name="stays"><failure message="bad"/><rerunFailure message="bad again"/>
    <properties><property name="tag">slow</property></properties></testcase>
  </testsuite>
 </testsuite>
</testsuites>"""


def entries(text, size=1 << 16):
    reader, result, data = XunitReader(), [], text.encode()
    for start in range(0, len(data), size):
        result += reader.feed(data[start : start + size])
    reader.close()
    return {entry.name: entry for entry in result}


@pytest.mark.parametrize("size", [1, 1 << 16])
def test_the_dialects_of_xunit(size):
    result = entries(DIALECT, size)
    assert {name: str(entry.outcome) for name, entry in result.items()} == {
        "adds": "passed",
        "fails": "failed",
        "breaks": "timed out",
        "rests": "skipped",
        "falls": "failed",
        "waits": "skipped",
        "wavers": "flaky",
        "stays": "failed",
    }
    assert (result["adds"].seconds, result["adds"].suite) == (1000.5, "outer / inner")
    assert (result["fails"].message, result["fails"].attachments) == ("no luck", ("shots/one.png",))
    assert (result["breaks"].message, result["breaks"].line) == ("second", 7)
    assert (result["breaks"].file, result["fails"].file) == ("own.x", "ledger/test_entries.x")
    assert result["waits"].message == "no wind"
    [earlier] = result["wavers"].earlier
    assert (earlier.message, earlier.detail, earlier.output) == ("late", "in a()", "once")
    assert (len(result["stays"].earlier), result["stays"].tags) == (1, ("slow",))


@pytest.mark.parametrize(
    ("text", "message"),
    [
        (
            '<!DOCTYPE x [<!ENTITY a "b">]><testsuite/>',
            "document type declaration, which is not allowed",
        ),
        ("<testsuite><testcase></testsuite>", "not well-formed XML: mismatched tag"),
        ("<html/>", "starts with <html>"),
        ("<testsuite>", "not well-formed XML"),
    ],
)
def test_what_is_no_report_is_refused(text, message):
    with pytest.raises(FormatError, match=message) as refused:
        entries(text)
    assert refused.value.line == 1


@given(st.binary(max_size=200))
def test_readers_fail_in_one_way_only(data):
    reader = XunitReader()
    start = b"<testsuite>"
    for call in (lambda: reader.feed(start + data), reader.close, lambda: read_ctrf(data)):
        with contextlib.suppress(FormatError):
            call()


def test_ctrf_of_others():
    tests = [
        {
            "name": "a",
            "status": "passed",
            "duration": 1500,
            "flaky": True,
            "retryAttempts": [{"attempt": 1, "status": "failed", "message": "late"}],
        },
        {"name": "b", "status": "other", "duration": 0, "suite": ["x", "y"]},
    ]
    _, (one, two) = read_ctrf(json.dumps({"results": {"tests": tests}}).encode())
    assert (one.outcome, one.seconds, one.earlier[0].message) == (Outcome.FLAKY, 1.5, "late")
    assert (two.outcome, two.suite) == (Outcome.ERRORED, "x / y")
    with pytest.raises(FormatError, match=r"test 0 .*the status of the test is 'fine'"):
        read_ctrf(b'{"results": {"tests": [{"name": "a", "status": "fine"}]}}')


@pytest.mark.parametrize("form", ["xunit", "ctrf", "tap", "json"])
def test_our_own_reports_come_back_as_they_were(folder, form):
    folder.file("test_a.py", "def test_good(): pass\ndef test_bad():\n    assert 0\n")
    folder.run()
    assert folder.call("report", "--as", form, "--to", f"r.{form}").code == 0
    told = folder.call("compare", f"r.{form}", "last", "--as", "json")
    if form == "json":
        assert "are the same run" in told.err
        return
    compared = json.loads(told.out)
    assert not compared["new"] and not compared["gone"] and not compared["newly_failing"]
    assert [each["address"] for each in compared["still_failing"]] == ["test_a.py#test_bad"]


def test_reports_join_the_history_once(folder):
    folder.file("nightly/results.xml", DIALECT)
    folder.file("nightly/more.tap", "1..2\nok 1 - a\nnot ok 2 - b\n")
    taken = folder.call("import", "nightly/results.xml", "nightly/more.tap", "--suite", "ledger")
    assert taken.code == 0, taken.err
    assert "8 tests: 1 passed, 3 failed, 1 timed out, 2 skipped, 1 flaky" in taken.out
    assert "2 tests: 1 passed, 1 failed" in taken.out
    again = folder.call("import", "nightly/results.xml", "--suite", "ledger")
    assert (again.code, "was already imported" in again.out) == (0, True)
    shown = json.loads(folder.call("history", "--as", "json").out)
    assert sorted(run["counts"].get("failed", 0) for run in shown) == [1, 3]
    none = folder.call("compare")
    assert (none.code, "no runs are recorded here" in none.err) == (2, True)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("hello\n", "is not TAP"),
        ("{", "is not JSON"),
        ("<testsuites/>", "the report contains no tests"),
        ('{"results": {}}', "is not a CTRF report"),
    ],
)
def test_what_cannot_be_read_is_said_and_the_rest_is_taken_in(folder, text, message):
    folder.file("good.tap", "1..1\nok 1 - a\n")
    folder.file("bad.txt", text)
    taken = folder.call("import", "bad.txt", "good.tap")
    assert (taken.code, message in taken.err, "bad.txt" in taken.err) == (1, True, True)
    assert "1 of 2 files could not be read" in taken.err
    assert len(json.loads(folder.call("history", "--as", "json").out)) == 1


@pytest.mark.parametrize(
    ("end", "reason"),
    [
        ("Bail out! no water\n", "bailed out: no water"),
        ("", "incomplete: "),
    ],
)
def test_a_stream_that_ends_early_is_a_failed_run(folder, end, reason):
    folder.file("tide.tap", f"1..3\nok 1 - a\n{end}")
    taken = folder.call("import", "tide.tap")
    assert (taken.code, f"1 test: 1 passed; {reason}" in taken.out) == (0, True)
    [run] = json.loads(folder.call("history", "--as", "json").out)
    assert run["exit_code"] == 1 and run["reason"].startswith(reason)


def test_imported_tests_are_found_by_name_and_status(folder):
    folder.file("tide.tap", "1..2\nok 1 - ebb is low\nnot ok 2 - flood is high\n")
    folder.file("test_a.py", "def test_here(): assert 0\ndef test_good(): pass\n")
    folder.run()
    shutil.rmtree(folder.path / ".wolfbane")
    for report in ("tide.tap", "report.json"):
        assert folder.call("import", report).code == 0
    result = json.loads(folder.call("history", "--name", "ebb", "--as", "json").out)
    assert [test["address"] for test in result] == ["imported#ebb is low"]
    listed = json.loads(folder.call("list", "--status", "failed", "--as", "json").out)
    assert [test["address"] for test in listed] == ["test_a.py#test_here"]
    assert list(folder.run("--status", "passed").outcomes) == ["test_a.py#test_good"]


def _report(*suites):
    """A report of suites, which are attributes and whether their only test, always X, fails."""
    told = [
        f"<testsuite {attributes}>{inside}<testcase classname='Quay' name='X'>"
        f"{'<failure/>' if fails else ''}</testcase></testsuite>"
        for attributes, inside, fails in suites
    ]
    return f"<testsuites>{''.join(told)}</testsuites>"


@pytest.mark.parametrize(
    ("one", "other", "addresses"),
    [
        (("name='east'", ""), ("name='west'", ""), ["Quay#east / X", "Quay#west / X"]),
        (("hostname='a'", ""), ("hostname='b'", ""), ["Quay#X (a)", "Quay#X (b)"]),
        (
            ("", "<properties><property name='browser' value='firefox'/></properties>"),
            ("", "<properties><property name='browser' value='webkit'/></properties>"),
            ["Quay#X (browser=firefox)", "Quay#X (browser=webkit)"],
        ),
    ],
)
def test_tests_of_a_report_are_told_apart_whatever_their_order(folder, one, other, addresses):
    folder.file("a.xml", _report((*one, False), (*other, True)))
    folder.file("b.xml", _report((*other, True), (*one, False)))
    compared = json.loads(folder.call("compare", "a.xml", "b.xml", "--as", "json").out)
    changed = ("newly_failing", "mended", "new", "gone")
    assert [compared[group] for group in changed] == [[]] * 4
    assert [each["address"] for each in compared["still_failing"]] == [addresses[1]]


@pytest.mark.parametrize(
    ("before", "after", "changed"),
    [
        ("..F", "F..", {}),
        ("...", ".F.", {"newly_failing": 1}),
        ("FF.", "..F", {"mended": 1}),
        ("F.", "..F.", {"new": 2}),
        ("F.F", "F", {"gone": 2}),
    ],
)
def test_what_is_the_same_in_everything_is_compared_as_a_set(folder, before, after, changed):
    for name, outcomes in (("a.xml", before), ("b.xml", after)):
        folder.file(name, _report(*(("", "", mark == "F") for mark in outcomes)))
    compared = json.loads(folder.call("compare", "a.xml", "b.xml", "--as", "json").out)
    groups = ("newly_failing", "mended", "new", "gone")
    assert {group: len(compared[group]) for group in groups if compared[group]} == changed


@pytest.mark.parametrize("form", ["xunit", "ctrf", "tap", "json"])
def test_a_quarantined_failure_comes_back_as_one(folder, form):
    folder.file("test_a.py", "def test_good(): pass\ndef test_bad():\n    assert 0, 'ill'\n")
    folder.file(
        "quarantine.toml",
        """
        [[quarantined]]
        match = "name:bad"
        because = "it waits"
        since = 2026-01-01
    """,
    )
    assert folder.run().code == 0
    assert folder.call("report", "--as", form, "--to", f"r.{form}").code == 0
    (folder.path / "quarantine.toml").unlink()
    (folder.path / ".wolfbane").rename(folder.path / "elsewhere")
    taken = folder.call("import", f"r.{form}")
    assert "2 tests: 1 passed, 1 quarantined" in taken.out
    folder.run("--retries", "0")
    [name] = [
        run["name"]
        for run in json.loads(folder.call("history", "--as", "json").out)
        if run["origin"] != "run"
    ]
    for before in (name, f"r.{form}"):
        compared = json.loads(folder.call("compare", before, "last", "--as", "json").out)
        assert compared["counts"] == {"passed": [1, 1], "failed": [0, 1], "quarantined": [1, 0]}, (
            before
        )
        [bad] = compared["still_failing"]
        assert (bad["before"], bad["after"]) == ("failed", "failed")
        assert compared["before"]["exit_code"] == 0


def test_what_got_slower_than_it_was_elsewhere(folder):
    folder.file(
        "test_a.py",
        """
        import time

        def test_slow():
            time.sleep(0.15)

        def test_quick():
            pass
    """,
    )
    for day in range(1, 7):
        tests = [
            {
                "name": f"test_a.py#test_{name}",
                "status": "passed",
                "duration": 20 + day,
                "filePath": "test_a.py",
            }
            for name in ("slow", "quick")
        ]
        summary = {"start": 1_760_000_000_000 + day * 86_400_000}
        whole = {"results": {"summary": summary, "tests": tests}}
        (folder.path / f"{day}.json").write_text(json.dumps(whole))
    assert folder.call("import", *(f"{day}.json" for day in range(1, 7))).code == 0
    folder.run()
    run = folder.run("--status", "slower")
    assert list(run.results) == ["test_a.py#test_slow"]
    assert "usual is" in folder.call("explain", "test_slow", "--status", "slower").out
