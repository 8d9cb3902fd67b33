"""API suites as load: the same workflows, many users, honest figures, limits, allowed hosts."""

from __future__ import annotations

import csv
import gzip
import json
import re
import shutil
import signal
import subprocess

import pytest
from multidict import CIMultiDict

from quay_api import flows, quay, run, server, step, value
from wolfbane.demo.copy import HARBOUR
from wolfbane.kinds.workflow.document_set import DocumentSet
from wolfbane.kinds.workflow.extensions import CHECKS
from wolfbane.kinds.workflow.runner.contract import Contract
from wolfbane.kinds.workflow.runner.scope import Answer
from wolfbane.load.measured import NAME, SampleFile

__all__ = ["quay", "server"]  # fixtures

ID = value("id", "path", 1)


def load(quay, *arguments, **environment):
    """A load with the figures of its journal."""
    done = quay.call(
        "load", "--set", f"url={quay.url}", "--set", "token=@token.txt", *arguments, **environment
    )
    runs = sorted((quay.path / ".wolfbane/runs").glob("*"))
    done.folder = runs[-1] if runs else None
    done.events = events(done.folder) if runs else []
    return done


def events(folder):
    return [json.loads(line) for line in (folder / "journal.jsonl").read_text().splitlines()]


def only(quay, *steps, **more):
    flows(quay, {"workflowId": "w", "steps": list(steps), **more})


def count(events, step=None):
    rows = [row for event in events if event["type"] == "load-second" for row in event["rows"]]
    return sum(row["count"] for row in rows if (row["step"] == step if step else row["step"]))


def samples(folder):
    with gzip.open(folder / "samples.csv.gz", "rt", newline="") as file:
        return list(csv.DictReader(file))


def shape_of(results):
    """Outcomes and parts, without the numbers that a service gave to its bookings."""

    def parts(result):
        names = [re.sub(r"/bookings/\d+", "/bookings/N", p["name"]) for p in result]
        return [
            (name.partition(" http")[0], p["outcome"], parts(p["parts"]))
            for name, p in zip(names, result, strict=True)
        ]

    return {a: (r["outcome"], parts(r["parts"])) for a, r in results.items()}


def test_one_user_and_one_loop_are_a_plain_run(quay):
    flows(
        quay,
        {
            "workflowId": "first",
            "steps": [
                step("log", "cookie", outputs={"sent": "$response.body#/sent"}),
                step("again", "cookie", "$response.body#/sent == 'berth=A1'"),
            ],
            "outputs": {"sent": "$steps.again.outputs.sent"},
        },
        {
            "workflowId": "second",
            "dependsOn": ["first"],
            "steps": [
                step("nested", workflowId="hop"),
                step("no", "text", "$statusCode == 201"),
            ],
        },
        {"workflowId": "third", "dependsOn": ["second"], "steps": [step("s", "text")]},
        {
            "workflowId": "hop",
            "steps": [
                step("s", "hop"),
                step(
                    "x",
                    "xml",
                    {
                        "context": "$response.body",
                        "type": "xpath",
                        "condition": "count(//berth) = 1",
                    },
                ),
            ],
        },
        {"workflowId": "bad", "steps": [step("s", "early"), step("t", "text")]},
        {"workflowId": "off", "steps": [step("b", "berth")]},
    )
    plain = run(quay)
    quay.server.seen = []
    done = load(quay, "--report", "json=load.json")
    report = json.loads((quay.path / "load.json").read_text())
    loaded = {result["address"]: result for result in report["results"]}
    assert shape_of(loaded) == shape_of(plain.results)
    assert done.code == plain.code == 1
    rows = samples(done.folder)
    assert len(rows) == len(quay.server.seen), "a redirect has its own row"
    assert count(done.events) == len(rows) - 1
    assert all(row["step"] for row in rows)


def test_the_demos_workflows_as_a_load_of_one_user_are_a_plain_run(folder):
    shutil.copytree(HARBOUR, folder.path, dirs_exist_ok=True)
    which = ("--suite", "workflows", "--everything", "--drop", "tag:wip", "-q")
    seen = {}
    for command in (("run",), ("load", "--users", "1", "--loops", "1")):
        done = folder.call(*command, *which, "--report", "json=out.json")
        results = json.loads((folder.path / "out.json").read_text())["results"]
        seen[command[0]] = done.code, shape_of({each["address"]: each for each in results})
    (code, plain), (load_code, load) = seen["run"], seen["load"]
    differing = {a: (plain.get(a), load[a]) for a in load if load[a] != plain.get(a)}
    assert differing == {}, repr(differing)
    assert (load_code, load.keys()) == (code, plain.keys())
    assert len(seen["run"][1]) == 15


def test_users_loops_and_samples(quay):
    only(quay, step("look", "xml"), step("again", "xml"))
    done = load(
        quay,
        "--users",
        "5",
        "--loops",
        "4",
        "-j",
        "2",
        "--limit",
        "errors < 1%",
        "--limit",
        "look: p99 < 20s",
    )
    assert done.code == 0, done.out + done.err
    assert (count(done.events, "look"), count(done.events)) == (20, 40)
    rows = samples(done.folder)
    assert len(rows) == 40 and {row["user"] for row in rows} == set("01234")
    assert {row["status"] for row in rows} == {"200"}
    assert all(float(row["whole_s"]) >= float(row["first_byte_s"]) > 0 for row in rows)
    assert sum(row["connect_s"] != "" for row in rows) == 5, "connections are kept"
    assert "1 test passed, 2 limits met" in done.out
    assert "met  " in done.out and "all requests" in done.out
    shown = quay.call("show")
    assert "all requests" in shown.out and "met     errors < 1%" in shown.out
    assert quay.call("list", "--status", "passed").code == 3, "a load leaves outcomes alone"


def test_known_delay_and_open_arrivals(quay):
    only(quay, step("s", "delay"))
    done = load(
        quay,
        "--rate",
        "40/s",
        "--for",
        "2s",
        "--arrivals",
        "even",
        "--samples",
        "off",
        "--limit",
        "median > 49ms",
        "--limit",
        "median < 2s",
    )
    assert done.code == 0, done.out
    ended = next(event for event in done.events if event["type"] == "load-finished")
    assert count(done.events) + ended["unstarted"] == 80, "a busy machine may be late for the last"
    assert not (done.folder / "samples.csv.gz").exists()


def test_a_stall_is_not_hidden_by_what_could_not_be_sent(quay):
    settings = (quay.path / "wolfbane.toml").read_text()
    quay.file("wolfbane.toml", settings.replace('read = "2s"', 'read = "60s"'))
    only(quay, step("s", "stall"))
    done = load(quay, "--rate", "40/s", "--for", "5s", "--users", "20", "--limit", "p99 > 1.5s")
    assert done.code == 0, done.out
    assert "more than 10 ms late" in done.out


@pytest.mark.parametrize(
    ("operation", "message"),
    [
        ("hang", "no response within 1 s"),
        ("early", "the server closed the connection"),
        ("loop", "more than 3 redirects"),
        ("status", "returned 503"),
        ("huge", "body_limit"),
    ],
)
def test_errors_are_counted_by_kind_and_one_exchange_is_kept(quay, operation, message):
    settings = (quay.path / "wolfbane.toml").read_text()
    quay.file("wolfbane.toml", settings.replace('read = "2s"', 'read = "1s"\nbody_limit = "1 MB"'))
    code = [value("code", "path", 503)] if operation == "status" else []
    only(quay, step("s", operation, parameters=code))
    done = load(quay, "--users", "2", "--loops", "2", "--timeout", "20s")
    assert done.code == 1
    assert "4 of 4 runs failed" in done.text and message in done.text, done.out
    kept = [event for event in done.events if event["type"] == "load-error"]
    assert len(kept) == 1
    archive = json.loads((done.folder / kept[0]["exchange"]).read_text())
    assert archive["log"]["entries"]


def test_it_stops_early(quay):
    only(quay, step("s", "status", parameters=[value("code", "path", 500)]))
    allowed = load(quay, "--users", "2", "--limit", "errors < 100.5%")
    assert (allowed.code, "1 limit met" in allowed.out) == (0, True), allowed.out
    done = load(
        quay, "--users", "3", "--for", "60s", "--stop-if", "errors > 20%", "--pause", "50ms"
    )
    assert (done.code, "stopped early: errors > 20%: 100.00%" in done.text) == (1, True), done.out


@pytest.mark.parametrize(
    ("arguments", "code", "message"),
    [
        (["--rate", "3/s"], 2, "--rate needs --for"),
        (["--rate", "fast", "--for", "1s"], 2, "'fast' is not a rate (write 40/s, 90/m or 500/h)"),
        (["--users", "0"], 2, "0 is not in the range"),
        (["--ramp", "3s", "--for", "2s"], 2, "--ramp 3s must be shorter than --for 2s"),
        (["--ramp", "-3s"], 2, "'-3s' is not a duration"),
        (["--loops", "2", "--for", "2s"], 2, "cannot be used together"),
        (["--pause", "3s..1s"], 2, "the end of the range is smaller than its start"),
        (["--contract", "5"], 2, "'5' is not a percentage (for example 0%, 1% or 100%)"),
        (["--limit", "p95 < soon"], 2, "'soon' is not a duration"),
        (["--limit", "p95 < 300"], 2, "'300' has no unit (write '300ms' or '300s')"),
        (["--limit", "medain < 3s"], 2, "there is no figure 'medain'; did you mean median?"),
        (["--limit", "lok: p95 < 3s"], 2, "there is no step 'lok'; did you mean look?"),
        (
            ["--set", "url=http://quay.example"],
            2,
            "load tests against quay.example are not allowed; "
            "if load tests may use this host, add it",
        ),
        (["--name", "nothing"], 3, "No tests match the selection"),
    ],
)
def test_bad_input(quay, arguments, code, message):
    only(quay, step("look", "xml"))
    done = load(quay, *arguments)
    assert (done.code, message in " ".join(done.err.split())) == (code, True), done.err
    assert quay.server.seen == []


def test_only_where_it_is_allowed(quay):
    settings = (quay.path / "wolfbane.toml").read_text()
    url = f"http://127.0.0.1.nip.example:{quay.server.server_port}"
    env = f'\n[env.here]\nload = true\nurl = "{url}"\n[env.there]\nurl = "{url}"\n'
    quay.file("wolfbane.toml", settings + env)
    only(quay, step("s", "away"))
    token = ("--set", "token=@token.txt")
    refused = quay.call("load", "--env", "there", *token)
    assert (refused.code, "set 'load = true' there" in refused.err) == (2, True)
    tried = quay.call("load", "--env", "here", *token)
    assert tried.code == 1 and "nip.example" in tried.out, "it is tried, and has no address"
    away = load(quay)
    assert (away.code, "load tests against quay.example are not allowed" in away.err) == (
        2,
        True,
    ), away.out
    quay.file("wolfbane.toml", settings + env.replace("true", '"yes"'))
    wrong = quay.call("list")
    assert (wrong.code, "'load' must be true or false" in wrong.err) == (2, True)


def test_what_cannot_be_loaded_is_left_out_and_said(quay):
    quay.file(
        "wolfbane.toml",
        (quay.path / "wolfbane.toml")
        .read_text()
        .replace(
            "[[suite]]", '[[suite]]\nname = "unit"\nkind = "python"\npaths = ["unit"]\n[[suite]]', 1
        ),
    )
    quay.file("unit/test_a.py", "def test_a(): pass\n")
    only(quay, step("look", "xml"))
    done = load(quay)
    assert done.code == 0
    assert "left out, because load tests support only workflows: 1 of kind python" in done.text
    dry = load(quay, "--dry-run", "--rate", "90/m", "--for", "1m", "--limit", "p95 < 1s")
    assert dry.code == 0 and quay.url in dry.out and "1.5 workflow starts per second" in dry.out
    assert len(quay.server.seen) == 1, "a dry run sends nothing"
    only(quay, step("look", "gone"))
    bad = load(quay, "--dry-run")
    assert (bad.code, "there is no operation 'gone'" in bad.text) == (1, True), bad.out


def test_an_interrupt_reports_what_was_measured(quay):
    only(quay, step("s", "delay"))
    process = subprocess.Popen(
        quay.command(
            "load",
            "--set",
            f"url={quay.url}",
            "--set",
            "token=@token.txt",
            "--users",
            "2",
            "--for",
            "100s",
            "--every",
            "1s",
        ),
        cwd=quay.path,
        env={**quay.environment(), "WOLFBANE_TEST_MARK": str(quay.path)},
        stdout=subprocess.PIPE,
        text=True,
    )
    lines = []
    for line in process.stdout:
        lines.append(line)
        if "requests/s" in line:
            process.send_signal(signal.SIGINT)
            break
    rest = process.communicate(timeout=60)[0]
    assert process.returncode == 130
    assert "Interrupted" in rest and "s  " in rest, rest
    assert quay.processes() == []


def test_a_full_disk_stops_the_samples_alone(tmp_path):
    (tmp_path / NAME).symlink_to("/dev/full")
    file = SampleFile(tmp_path, wanted=True)
    file.add("1,2\n")
    assert "No space left" in file.trouble


def test_limits_are_cases_of_other_formats(quay):
    only(quay, step("s", "xml"))
    done = load(
        quay,
        "--limit",
        "p50 < 60s",
        "--limit",
        "s: max < 60s",
        "--limit",
        "errors > 1",
        "--report",
        "xunit=out.xml",
    )
    assert done.code == 1
    text = (quay.path / "out.xml").read_text()
    assert "errors &gt; 1" in text and "measured: 0" in text
    message = "1 test passed, 1 of 3 limits missed"
    assert message in done.out and message in quay.call("runs", COLUMNS="200").out
    [run] = json.loads(quay.call("history", "--as", "json").out)
    assert run["counts"] == {"passed": 1}, "limits are not tests"


PROFILE = """
[load.evening]
select = "name:book or name:look"
stages = [{ duration = "1s", rate = "20/s" }, { duration = "1s", rate = "20/s" }]
arrivals = "even"
mix = [{ match = "name:book", weight = 3 }, { match = "name:look", weight = 1 }]
limits = ["errors < 1%"]
[load.rows]
users = 2
loops = 9
rows = "once"
"""


@pytest.fixture
def evening(quay):
    quay.file("wolfbane.toml", (quay.path / "wolfbane.toml").read_text() + PROFILE)
    flows(
        quay,
        *(
            {"workflowId": name, "steps": [step(f"{name}It", "xml")]}
            for name in ("book", "look", "other")
        ),
    )
    return quay


def test_a_profile_with_stages_and_a_mix(evening):
    done = load(evening, "--profile", "evening", "--seed", "7")
    assert done.code == 0, done.err + done.out
    booked, looked = count(done.events, "bookIt"), count(done.events, "lookIt")
    ended = next(event for event in done.events if event["type"] == "load-finished")
    assert booked + looked + ended["unstarted"] == 30 and booked > looked > 0
    assert count(done.events, "otherIt") == 0
    typed = load(evening, "--profile", "evening", "--users", "1", "--loops", "5")
    assert count(typed.events) == 5 and "1 user, each 5 loops" in typed.out


@pytest.mark.parametrize("rows", ["", "in turn", "once"])
def test_a_weight_belongs_to_the_workflow_whatever_its_rows(quay, rows):
    quay.file("flows/ships.csv", "name\n" + "".join(f"ship {n}\n" for n in range(150)))
    settings = (quay.path / "wolfbane.toml").read_text()
    quay.file(
        "wolfbane.toml",
        settings
        + f"""
[load.mixed]
users = 1
loops = 100
rows = "{rows}"
mix = [{{ match = "name:ships", weight = 1 }}, {{ match = "name:tide or name:ebb", weight = 3 }}]
""",
    )
    flows(
        quay,
        {"workflowId": "ships", "x-rows": "ships.csv", "steps": [step("s", "xml")]},
        {"workflowId": "tide", "steps": [step("t", "cookie")]},
        {"workflowId": "ebb", "steps": [step("e", "text", "true")]},
    )
    quay.file(
        "wolfbane.toml",
        (quay.path / "wolfbane.toml")
        .read_text()
        .replace("[suite.http]", "[suite.http]\ncontract = []"),
    )
    done = load(quay, "--profile", "mixed", "--seed", "11")
    assert done.code == 0, done.err + done.out
    seen = [each["path"] for each in quay.server.seen]
    assert len(seen) == 100
    shares = {path: seen.count(path) / 100 for path in set(seen)}
    # Three standard deviations of a choice made 100 times, with a fixed seed.
    assert abs(shares["/xml"] - 0.25) < 0.13
    assert abs(shares["/cookie"] - 0.375) < 0.15 and abs(shares["/text"] - 0.375) < 0.15


def test_schemas_are_compiled_before_the_clock_starts(quay, monkeypatch):
    """The first response would otherwise wait for it, and be late for its limit."""
    only(quay, step("s", "berth"))
    library = DocumentSet(quay.path, "flows/a.arazzo.yaml")
    operation = library.operation({"stepId": "s", "operationId": "berth"})
    made = []
    contract = Contract(CHECKS)
    compiled = contract._made
    monkeypatch.setattr(contract, "_made", lambda *given: made.append(given) or compiled(*given))
    contract.prepare(operation)
    before = len(made)
    answer = Answer(
        200, CIMultiDict({"Content-Type": "application/json", "X-Count": "many"}), b'{"id": 1}', 0.0
    )
    assert contract.mismatches(operation, answer, {})
    assert len(made) == before > 0


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("select =", "selct =", "unknown key 'selct'; did you mean select?"),
        ('rate = "20/s" }]', "users = 3 }]", "use users in all stages, or a rate in all stages"),
        ('rate = "20/s"', 'rate = "fast"', "'fast' is not a rate"),
        ('"1s", rate', '"-1s", rate', "'-1s' is not a duration"),
        ('"20/s"', '"0/s"', "start no users"),
        ("name:book or", "name:", "wolfbane.toml:"),
        (
            'name:look", weight',
            'name:gone", weight',
            "'name:gone' is for an expression that matches none of the selected",
        ),
        ("weight = 1", "weight = -1", "the weight -1 of 'name:look' must be greater than zero"),
        (
            "evening]",
            "morning]",
            "there is no load profile 'evening' in wolfbane.toml; known: morning",
        ),
    ],
)
def test_what_is_wrong_with_a_profile(evening, old, new, message):
    text = (evening.path / "wolfbane.toml").read_text()
    evening.file("wolfbane.toml", text.replace(old, new))
    done = load(evening, "--profile", "evening")
    assert (done.code, message in " ".join(done.err.split())) == (2, True), done.err
    assert evening.server.seen == []


def test_rows_that_run_out_are_said(evening):
    evening.file("flows/ships.csv", "name,ship\na,Tern\nb,Heron\nc,Gull\n")
    flows(
        evening,
        {
            "workflowId": "w",
            "x-rows": "ships.csv",
            "steps": [step("s", "echo", parameters=[ID, value("list", "query", "$inputs.ship")])],
            "inputs": {"properties": {"ship": {"type": "string"}}},
        },
    )
    done = load(evening, "--profile", "rows", "-j", "2")
    assert done.code == 0, done.out
    assert sorted(seen["query"]["list"][0] for seen in evening.server.seen) == [
        "Gull",
        "Heron",
        "Tern",
    ]
    assert "w has no more data rows" in done.out


def test_two_loads_compared(quay):
    only(quay, step("s", "xml"), step("t", "xml"))
    how = ("--rate", "6/s", "--for", "3s", "--samples", "off")
    load(quay, *how)
    only(quay, step("s", "late"), step("t", "xml"))
    load(quay, *how)
    told = quay.call("compare", "previous", "last", "--fail-on", "slower", "--picture", "a.svg")
    assert told.code == 1, told.out
    assert "significantly slower  flows/a.arazzo.yaml#w" in told.out
    rows = [line.split() for line in told.out.splitlines() if line.startswith("   ")]
    assert "s" in [row[0] for row in rows if "slower" in row], told.out
    assert "<svg" in (quay.path / "a.svg").read_text()
    changes = json.loads(quay.call("compare", "previous", "last", "--as", "json").out)["load"]
    assert [c["slower"] for c in changes if c["step"] != "t"] == [True, True]
    page = quay.call("report", "--as", "html").out
    assert page.count('class="chart"') == 4 and "Distribution of response times" in page
    table = quay.call("report", "--as", "csv").out.splitlines()
    assert table[0].startswith("workflow,step,count,failed") and len(table) == 4
    told = json.loads(quay.call("report", "--as", "json").out)["load"]
    assert told["requests"]["count"] == sum(told["series"]["requests"]) > 10
    assert "| **w** |" in quay.call("report", "--as", "markdown").out


def test_what_a_document_retries_is_no_error(quay):
    again = {"name": "again", "type": "retry", "retryLimit": 5}
    only(quay, step("s", "busy", onFailure=[again]))
    done = load(quay, "--limit", "errors < 1")
    assert (done.code, count(done.events)) == (0, 3), done.out


def test_a_service_that_is_not_there_blocks_the_load(quay):
    quay.file(
        "wolfbane.toml",
        (quay.path / "wolfbane.toml")
        .read_text()
        .replace('kind = "workflow"', 'kind = "workflow"\nneeds = ["gone"]')
        + '[service.gone]\ncommand = ["false"]\nready = "http://127.0.0.1:{port}/"\n',
    )
    only(quay, step("s", "xml"))
    done = load(quay)
    assert (done.code, "blocked" in done.out, quay.server.seen) == (4, True, []), done.out


def test_nothing_sent_and_a_lost_process_are_no_success(quay):
    only(quay, step("s", "xml"))
    none = load(quay, "--rate", "1/h", "--arrivals", "even", "--for", "1s", "--limit", "p99 < 1s")
    assert (none.code, "nothing was run" in none.text.lower()) == (3, True), none.out
    only(quay, step("s", "kill"))
    lost = load(quay, "--users", "1", "--limit", "errors < 101%")
    assert lost.code in (1, 3) and "ended unexpectedly" in lost.text, lost.out
