"""One record in every format: whole, well-formed, and harmless whatever tests are called."""

from __future__ import annotations

import csv
import io
import json
import re

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree, html

from wolfbane.events.run_events import Quarantined, RunFinished, RunStarted
from wolfbane.formats.registry import NAMES
from wolfbane.formats.tap.parser import TapReader
from wolfbane.model import Outcome, Part, Result
from wolfbane.reports.report_files import render
from wolfbane.results.record import Record

# What https://ctrf.io asks of a report, as far as one of ours goes.
CTRF = {
    "type": "object",
    "required": ["results"],
    "properties": {
        "results": {
            "type": "object",
            "required": ["tool", "summary", "tests"],
            "properties": {
                "tool": {"type": "object", "required": ["name"]},
                "summary": {
                    "type": "object",
                    "required": [
                        "tests",
                        "passed",
                        "failed",
                        "pending",
                        "skipped",
                        "other",
                        "start",
                        "stop",
                    ],
                    "additionalProperties": {"type": "integer"},
                },
                "tests": {
                    "type": "array",
                    "items": {
                        "type": "object",
                        "required": ["name", "status", "duration"],
                        "properties": {
                            "name": {"type": "string"},
                            "status": {"enum": ["passed", "failed", "skipped", "pending", "other"]},
                            "duration": {"type": "integer"},
                            "flaky": {"type": "boolean"},
                            "retries": {"type": "integer"},
                            "tags": {"type": "array", "items": {"type": "string"}},
                            "steps": {"type": "array", "items": {"required": ["name", "status"]}},
                        },
                    },
                },
            },
        }
    },
}
TEXTS = st.text(st.characters(codec=None), max_size=30)


def record(results, held=()):
    """A record of these results, those at these addresses quarantined."""
    started = RunStarted(
        run="r",
        workspace="Quay",
        began="2026-06-01T06:00:00+02:00",
        command="",
        expression="",
        leave_out="",
        left_out={},
        tests=len(results),
        files={},
        suites={},
        jobs=1,
        order="",
        runtimes={},
        quarantined={address: Quarantined("it waits", 3) for address in held},
    )
    return Record(started, list(results), RunFinished(1.5, 1, {}))


def result(name, outcome, message="", **more):
    return Result(f"p.py#{name}", "s", "python", "p.py", name, outcome, 0.25, message, **more)


TEXTUAL = [name for name in NAMES if name != "record"]
"""The archive of a run's folder is tested with the joining of runs."""


def test_every_format_tells_the_same():
    first = result("b", Outcome.FAILED, "no luck")
    rows = [
        result("a", Outcome.PASSED, parts=(Part("x", Outcome.PASSED),)),
        result("b", Outcome.FLAKY, attempt=2, earlier=(first,)),
        result("c", Outcome.FAILED, "it broke\nin two"),
        result("d", Outcome.SKIPPED, "no wind"),
        result("e", Outcome.FAILED, "known"),
    ]
    made = {name: render(name, record(rows, held=["p.py#e"])).decode() for name in TEXTUAL}
    reader = TapReader()
    for line in made["tap"].splitlines():
        reader.feed(line)
    points = reader.finish().points
    assert [(p.ok, p.directive) for p in points] == [
        (True, ""),
        (True, ""),
        (False, ""),
        (True, "skip"),
        (False, "todo"),
    ]
    told = json.loads(made["ctrf"])
    jsonschema.validate(told, CTRF)
    assert [t["status"] for t in told["results"]["tests"]] == [
        "passed",
        "passed",
        "failed",
        "skipped",
        "other",
    ]
    assert told["results"]["tests"][1]["retries"] == 1
    assert told["results"]["summary"]["failed"] == 1
    suite = etree.fromstring(made["xunit"].encode()).find("testsuite")
    assert (suite.get("failures"), suite.get("skipped")) == ("1", "2")
    table = list(csv.DictReader(io.StringIO(made["csv"])))
    assert [row["outcome"] for row in table] == ["passed", "flaky", "failed", "skipped", "failed"]
    assert (table[1]["attempts"], table[2]["message"]) == ("2", "it broke")
    markdown = made["markdown"]
    assert "1 passed, 1 flaky, 1 failed, 1 skipped, 1 quarantined in 1.50 s" in markdown
    assert markdown.index("### Failed") < markdown.index("### Flaky") < markdown.index("### Quar")
    counts = dict(
        re.findall(r'^wolfbane_tests{.*outcome="(.*)"} (\d+)$', made["openmetrics"], re.M)
    )
    assert counts == dict.fromkeys(["passed", "flaky", "failed", "skipped", "quarantined"], "1")
    whole = json.loads(made["json"])["results"]
    assert len(whole) == 5 and [json.loads(li) for li in made["jsonl"].splitlines()] == whole


@pytest.mark.parametrize(
    "text",
    [
        "<script>alert(1)</script>",
        '=HYPERLINK("x")',
        "+1",
        "-1",
        "@x",
        "a # SKIP b",
        "\x1b[2J\x00\x9b",
        "</script><img src=x onerror=alert(1)>",
        "' onclick='x",
        "| a | b |",
        "[x](javascript:1)",
        "```",
        "---\n...\nok 9 - x",
    ],
)
def test_hostile_texts_are_harmless(text):
    rows = [result(text, Outcome.FAILED, text, output=text, tags=(text,))]
    made = {name: render(name, record(rows)) for name in TEXTUAL if name != "json"}
    for row in csv.reader(io.StringIO(made["csv"].decode())):
        assert not [cell for cell in row if cell.startswith(("=", "+", "-", "@"))]
    markdown = made["markdown"].decode()
    assert "<script" not in re.sub(r"`[^`]*`", "", markdown)
    assert not re.search(r"(?<!\\)\]\(", re.sub(r"`[^`]*`", "", markdown))
    points = [line for line in made["tap"].decode().splitlines() if re.match(r"(not )?ok ", line)]
    assert len(points) == 1 and points[0].startswith("not ok 1 - ") and " # " not in points[0]
    etree.fromstring(made["xunit"])
    page = html.fromstring(made["html"].decode())
    assert len(page.xpath("//script[not(@type)]")) == 1
    assert not page.xpath("//@onerror | //img | //a[not(starts-with(@href, '#'))]")
    for name, data in made.items():
        assert not re.search(rb"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]", data), name


@given(st.lists(st.tuples(TEXTS, TEXTS, st.sampled_from(Outcome)), max_size=4))
def test_every_format_can_be_read_back(rows):
    made = record([result(name, outcome, message) for name, message, outcome in rows])
    assert len(list(csv.reader(io.StringIO(render("csv", made).decode())))) == len(rows) + 1
    reader = TapReader()
    for line in render("tap", made).decode().split("\n"):
        reader.feed(line)
    assert len(reader.finish().points) == len(rows)
    render("markdown", made).decode()


def test_reports_of_recorded_runs(folder):
    folder.file("test_a.py", "def test_good():\n    pass\ndef test_bad():\n    assert 0\n")
    folder.run()
    shown = folder.call("report", "--as", "tap")
    assert (shown.code, shown.out.startswith("TAP version 14\n1..2\n")) == (0, True)
    assert folder.call("report", "last", "--as", "csv", "--to", "out/r.csv").code == 0
    assert len((folder.path / "out" / "r.csv").read_text().splitlines()) == 3
    none = folder.call("report", "previous", "--as", "csv")
    assert (none.code, "there is no previous run; recorded runs: 1" in none.err) == (2, True)
    wrong = folder.call("report", "--as", "csv", "--to", "test_a.py/r.csv")
    assert (wrong.code, "cannot write the report" in wrong.err) == (2, True)
