"""Every kind feels the same: one table in ``docs/kinds.md``, and a run of every cell of it."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from conftest import present

KINDS = Path(__file__).parent.parent / "docs" / "kinds.md"


@dataclass(frozen=True)
class Sample:
    """A suite of one kind: a test that passes, fails, hangs, crashes; the first is tagged."""

    files: dict[str, str]
    high: str
    low: str
    hang: str
    crash: str
    place: str
    own_tag: str = ""
    needs: str = ""
    settings: str = ""
    paths: list[str] = field(default_factory=lambda: ["t"])


SAMPLES = {
    "python": Sample(
        {
            "t/test_tide.py": """
            import os, time, unittest
            class Tide(unittest.TestCase):
                # tags: smoke
                def test_high(self): pass
                test_high.tags = ["own"]
                def test_low(self):
                    print("low water")
                    self.fail("aground")
                def test_hang(self): time.sleep(60)
                def test_crash(self): os._exit(3)
            """
        },
        "t/test_tide.py#Tide / test_high",
        "t/test_tide.py#Tide / test_low",
        "t/test_tide.py#Tide / test_hang",
        "t/test_tide.py#Tide / test_crash",
        "t/test_tide.py:4",
        "own",
    ),
    "doctest": Sample(
        {
            "t/tide.py": '''
            import os, sys, time
            # tags: smoke
            def high():
                """
                >>> 1 + 1
                2
                """
            def low():
                """
                >>> _ = sys.__stdout__.write("low water")
                >>> 1 + 1
                3
                """
            def hang():
                """
                >>> time.sleep(60)
                """
            def crash():
                """
                >>> os._exit(3)
                """
            '''
        },
        "t/tide.py#high",
        "t/tide.py#low",
        "t/tide.py#hang",
        "t/tide.py#crash",
        "t/tide.py:5",
    ),
    "node": Sample(
        {
            "t/tide.test.mjs": """
            import { test } from 'node:test';
            // tags: smoke
            test('high @own', () => {});
            test('low', () => { console.log('low water'); throw new Error('aground') });
            test('hang', () => new Promise((done) => setTimeout(done, 60000)));
            test('crash', () => process.kill(process.pid, 'SIGKILL'));
            """
        },
        "t/tide.test.mjs#high @own",
        "t/tide.test.mjs#low",
        "t/tide.test.mjs#hang",
        "t/tide.test.mjs#crash",
        "t/tide.test.mjs:3",
        "own",
        "node",
    ),
    "cargo": Sample(
        {
            "t/Cargo.toml": '[package]\nname = "tide"\nversion = "0.1.0"\n',
            "t/src/lib.rs": """
            // tags: smoke
            #[test]
            fn high() {}
            #[test]
            fn low() { println!("low water"); panic!("aground") }
            #[test]
            fn hang() { std::thread::sleep(std::time::Duration::from_secs(60)) }
            #[test]
            fn crash() { std::process::abort() }
            #[test]
            #[ignore]
            fn left() {}
            """,
        },
        "t/src/lib.rs#high",
        "t/src/lib.rs#low",
        "t/src/lib.rs#hang",
        "t/src/lib.rs#crash",
        "t/src/lib.rs:3",
        "ignored",
        "cargo",
    ),
    "scenario": Sample(
        {
            "t/tide.feature": """
            Feature: Tide
              # tags: smoke
              @own
              Scenario: high
                Given water
              Scenario: low
                Given low water
              Scenario: hang
                Given still water
              Scenario: crash
                Given no water
            """,
            "t/steps/water.py": """
            import os, time
            from wolfbane.steps import given
            given("water")(lambda: None)
            given("still water")(lambda: time.sleep(60))
            given("no water")(lambda: os._exit(3))
            @given("low water")
            def low():
                print("low water")
                raise AssertionError("aground")
            """,
        },
        "t/tide.feature#high",
        "t/tide.feature#low",
        "t/tide.feature#hang",
        "t/tide.feature#crash",
        "t/tide.feature:5",
        "own",
    ),
    "workflow": Sample(
        {
            "server.py": """
            import http.server, sys, time
            class Desk(http.server.BaseHTTPRequestHandler):
                def do_GET(self):
                    if self.path == "/hang":
                        time.sleep(60)
                    self.send_response(404 if self.path == "/low" else 200)
                    self.end_headers()
                    self.wfile.write(b"low water")
            http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Desk).serve_forever()
            """,
            "openapi.yaml": """
            openapi: 3.1.0
            info: {title: tide, version: 1.0.0}
            paths:
              /high: {get: {operationId: high, responses: {"200": {description: ok}}}}
              /low: {get: {operationId: low, responses: {"404": {description: ok}}}}
              /hang: {get: {operationId: hang, responses: {"200": {description: ok}}}}
            """,
            "t/tide.arazzo.yaml": """
            arazzo: 1.0.1
            info: {title: tide, version: 1.0.0}
            sourceDescriptions: [{name: tide, url: ../openapi.yaml}]
            workflows:
              # tags: smoke
              - workflowId: high
                x-tags: [own]
                steps: [{stepId: s, operationId: high}]
              - workflowId: low
                steps: [{stepId: s, operationId: low}]
              - workflowId: hang
                steps: [{stepId: s, operationId: hang}]
            """,
        },
        "t/tide.arazzo.yaml#high",
        "t/tide.arazzo.yaml#low",
        "t/tide.arazzo.yaml#hang",
        "",
        "t/tide.arazzo.yaml:6",
        "own",
        settings="""
needs = ["desk"]
[suite.http]
base_url = "http://127.0.0.1:{desk.port}"
[service.desk]
command = ["python3", "server.py", "{port}"]
""",
    ),
    "tap": Sample(
        {
            "t/high.t": "#!/bin/sh\n# tags: smoke\necho 1..1\necho ok 1\n",
            "t/low.t": "#!/bin/sh\necho 1..1\necho not ok 1 - low water\n",
            "t/hang.t": "#!/bin/sh\nexec sleep 60\n",
            "t/crash.t": "#!/bin/sh\nkill -9 $$\n",
        },
        "t/high.t",
        "t/low.t",
        "t/hang.t",
        "t/crash.t",
        "t/high.t:3",
    ),
    "program": Sample(
        {
            "t/high.sh": "# tags: smoke\ntrue\n",
            "t/low.sh": "echo low water; exit 1\n",
            "t/hang.sh": "exec sleep 60\n",
            "t/crash.sh": "kill -9 $$\n",
        },
        "t/high.sh",
        "t/low.sh",
        "t/hang.sh",
        "t/crash.sh",
        "t/high.sh:1",
    ),
}
ALL = tuple(SAMPLES)
OWN_CODE = tuple(kind for kind, sample in SAMPLES.items() if sample.crash)
CELLS = {
    "`list`, before a worker was asked": ALL,
    "`explain`": ALL,
    "`--dry-run`": ALL,
    "`FILE:LINE`": ALL,
    "address of one test": ALL,
    "tag in a comment": ALL,
    "tag in the kind's own way": tuple(kind for kind, sample in SAMPLES.items() if sample.own_tag),
    "output kept with its test": OWN_CODE,
    "`--timeout` ends one test": ALL,
    "a crash costs one test": OWN_CODE,
    "`--stop-after`": ALL,
}


@pytest.fixture(params=SAMPLES)
def suite(request, folder):
    sample = SAMPLES[request.param]
    if sample.needs and not present(sample.needs):
        pytest.skip(f"there is no {sample.needs} here")
    paths = json.dumps(sample.paths)
    folder.file(
        "wolfbane.toml",
        f'[[suite]]\nname = "tide"\nkind = "{request.param}"\npaths = {paths}\n{sample.settings}',
    )
    for name, text in sample.files.items():
        folder.file(name, text, 0o755)
    folder.sample = sample
    return folder


def test_the_table_says_what_is_run_here():
    lines = KINDS.read_text(encoding="utf-8").splitlines()
    rows = [[cell.strip() for cell in line.split("|")[1:-1]] for line in lines if line[:1] == "|"]
    heads = rows[0][1:]
    table = {
        feature: tuple(kind for kind, cell in zip(heads, cells) if cell == "yes")
        for feature, *cells in rows[1:]
        if feature in CELLS
    }
    assert heads == list(ALL)
    assert table == CELLS


def test_choosing(suite):
    sample = suite.sample
    listed = {
        row["address"]: row for row in json.loads(suite.call("list", "--as", "json").out)
    }  # fmt: skip
    assert {sample.high, sample.low, sample.hang, sample.crash} - {""} <= set(listed)
    assert all(row["line"] for row in listed.values())
    assert listed[sample.high]["tags"][0] in ("smoke", sample.own_tag)
    explained = suite.call("explain", sample.high, "--tag", "smoke").out
    assert "verdict    chosen" in explained and "smoke" in explained
    planned = suite.call("run", "--dry-run", "--tag", "smoke").out
    assert sample.high in planned.splitlines() and sample.low not in planned
    assert suite.run(sample.place).outcomes == {sample.high: "passed"}
    assert list(suite.run(sample.low).outcomes) == [sample.low]
    if sample.own_tag:
        assert len(suite.run("--tag", sample.own_tag).outcomes) == 1


def test_running(suite):
    sample = suite.sample
    run = suite.run("--timeout", "2.5s")
    low = run.results[sample.low]
    assert low["outcome"] in ("failed", "errored")
    assert "low water" in low["output" if sample.crash else "message"]
    assert run.outcomes[sample.high] == "passed"
    assert run.outcomes[sample.hang] == "timed out"
    assert run.outcomes.get(sample.crash, "crashed") == "crashed"
    assert run.code == 1


def test_stopping(suite):
    low = suite.sample.low
    other = suite.sample.crash or suite.sample.hang
    run = suite.run(low, other, "-j1", "--stop-after", "1", "--timeout", "2.5s")
    assert len(run.outcomes) == 1 and "stopped after 1" in run.out
