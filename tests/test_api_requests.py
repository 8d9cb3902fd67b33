"""Requests of workflows: parts with files, limits, streams, and what is kept of them."""

from __future__ import annotations

import json
import shlex
import subprocess

import pytest

from quay_api import (
    DESCRIPTION,
    SETTINGS,
    Desk,
    flows,
    param,
    quay,
    result,
    run,
    server,
    step,
    value,
)

__all__ = ["quay", "server"]  # fixtures

ID = value("id", "path", 1)


def describe_parts(quay, schema, **more):
    """Have the description say what the parts of a body are."""
    media = {"multipart/form-data": {"schema": schema, **more}}
    described = json.loads(json.dumps(DESCRIPTION))
    described["paths"]["/echo/{id}"]["post"]["requestBody"] = {"content": media}
    quay.file("openapi.json", json.dumps(described))


@pytest.mark.parametrize(
    ("schema", "payload", "sent"),
    [
        (
            {"properties": {"chart": {"type": "string", "format": "binary"}}},
            {"chart": "depths"},
            'name="chart"; filename="chart"\r\n'
            "Content-Type: application/octet-stream\r\n\r\ndepths",
        ),
        (
            {"properties": {"chart": {"contentMediaType": "image/png"}}},
            {"chart": "depths"},
            'name="chart"; filename="chart"\r\nContent-Type: image/png\r\n\r\ndepths',
        ),
        (
            {"properties": {"charts": {"type": "array", "items": {"format": "binary"}}}},
            {"charts": ["a", "b"]},
            'name="charts"; filename="charts"',
        ),
        (
            {"$ref": "#/components/schemas/Berth"},
            {"chart": {"x-file": "soundings.csv"}},
            'name="chart"; filename="soundings.csv"\r\nContent-Type: text/csv\r\n\r\n4.5,5',
        ),
        ({}, {"berth": "A1", "n": {"c": 1}}, 'name="berth"\r\n'),
    ],
)
def test_parts_that_are_files(quay, schema, payload, sent):
    quay.file("flows/soundings.csv", "4.5,5")
    describe_parts(quay, schema)
    body = {"contentType": "multipart/form-data", "payload": payload}
    told = result(quay, step("s", "echo", parameters=[ID], requestBody=body))
    assert told["outcome"] == "passed", told["message"]
    assert sent in quay.server.seen[0]["body"]


def test_a_template_that_is_no_json_once_it_is_filled(quay):
    inputs = {"properties": {"said": {"default": '"'}, "many": {"default": [1, 2]}}}
    right = step(
        "r",
        "echo",
        "$response.body#/body == '{\"n\": [1, 2]}'",
        parameters=[ID],
        requestBody={"payload": '{"n": {$inputs.many}}'},
    )
    wrong = step("w", "echo", parameters=[ID], requestBody={"payload": '{"n": {$inputs.said}}'})
    told = result(quay, right, wrong, inputs=inputs)
    assert (told["outcome"], len(quay.server.seen)) == ("errored", 1)
    assert "step w: the payload is not valid JSON" in told["message"]


def test_limits_for_one_step_and_from_parameters(quay):
    text = SETTINGS.replace('read = "2s"', 'read = "{patience}"\nbody_limit = "{most}"')
    quay.file(
        "wolfbane.toml",
        text + '[param.patience]\ndefault = "30s"\n[param.most]\ndefault = "1 MB"\n',
    )
    told = result(quay, step("s", "hang", **{"x-read": "300ms"}))
    assert "no response within 0.3 s" in told["message"]
    flows(quay, {"workflowId": "w", "steps": [step("s", "drip")]})
    told = run(quay, "--set", "patience=500ms").results["flows/a.arazzo.yaml#w"]
    assert "the body was not complete within 0.5 s" in told["message"]
    told = result(quay, step("s", "huge"))
    assert "the body is longer than 1,000,000 bytes (body_limit)" in told["message"]
    flows(quay, {"workflowId": "w", "steps": [step("s", "text")]})
    done = run(quay, "--set", "patience=soon")
    assert (done.code, "wolfbane.toml:7: suite 'api': 'read': 'soon' is" in done.err) == (
        2,
        True,
    ), done.err


def test_headers_for_every_request(quay):
    headers = 'headers = { X-Crew = "{boat}", X-Watch = "night" }'
    quay.file("wolfbane.toml", SETTINGS.replace("redirects = 3", f"redirects = 3\n{headers}"))
    own = value("X-Watch", "header", "day")
    assert result(quay, step("s", "echo", parameters=[ID, own]))["outcome"] == "passed"
    sent = quay.server.seen[0]["headers"]
    assert (sent["X-Crew"], sent["X-Watch"]) == ("Grey Heron", "day")


@pytest.mark.parametrize(
    ("until", "limit", "outcome", "said"),
    [
        (
            {"context": "$response.body", "condition": "tide 3", "type": "regex"},
            "20s",
            "passed",
            "",
        ),
        (
            {"context": "$response.body", "condition": "tide 9999", "type": "regex"},
            "1s",
            "errored",
            "the x-until condition was not met within 1 s",
        ),
    ],
)
def test_a_stream_is_read_until_a_condition(quay, until, limit, outcome, said):
    events = step(
        "s",
        "events",
        "$statusCode == 200",
        **{"x-until": until, "x-read": limit, "x-contract": []},
        outputs={"seen": "$response.body"},
    )
    told = result(quay, events)
    assert (told["outcome"], said in told["message"]) == (outcome, True), told["message"]


def test_a_stream_that_ends_before_its_condition(quay):
    short = step(
        "s",
        "text",
        "$statusCode == 200",
        **{"x-until": "$response.body == 'tide 9'", "x-contract": []},
    )
    told = result(quay, short)
    assert told["outcome"] == "failed"
    assert "$response.body == 'tide 9': the response ended before" in told["message"]


def test_exceptions_from_the_contract(quay):
    odd = value("code", "path", 503)
    is_503 = "$statusCode == 503"
    told = result(quay, step("s", "status", is_503, parameters=[odd], **{"x-contract": ["body"]}))
    assert told["outcome"] == "passed", told["message"]
    assert result(quay, step("s", "status", is_503, parameters=[odd]))["outcome"] == "failed"
    described = json.loads(json.dumps(DESCRIPTION))
    described["paths"]["/status/{code}"]["get"]["x-contract"] = []
    quay.file("openapi.json", json.dumps(described))
    assert result(quay, step("s", "status", is_503, parameters=[odd]))["outcome"] == "passed"


@pytest.mark.parametrize("body", ["short", "x" * 5000, "binary"])
def test_the_curl_line_sends_the_same_request(quay, body):
    described = json.loads(json.dumps(DESCRIPTION))
    described["paths"]["/echo/{id}"]["post"]["parameters"].append(
        param("deep[]", "query", style="form", allowReserved=True)
    )
    quay.file("openapi.json", json.dumps(described))
    content = b"\x00\xff\xfe'" if body == "binary" else body.encode()
    (quay.path / "flows").mkdir()
    (quay.path / "flows/chart.bin").write_bytes(content)
    sent = {"contentType": "application/octet-stream", "x-file": "chart.bin"}
    told = result(
        quay,
        step(
            "s",
            "echo",
            "$statusCode == 418",
            requestBody=sent,
            parameters=[ID, value("deep[]", "query", "a[1]{2}")],
        ),
    )
    line = told["message"].partition("to repeat the request: ")[2].splitlines()[0]
    arguments = shlex.split(line)
    assert ("-g" in arguments, "-L" in arguments) == (True, True)
    subprocess.run(arguments, cwd=quay.path, check=True, capture_output=True)
    first, second = quay.server.seen
    assert (first["raw"], first["body"]) == (second["raw"], second["body"])
    kept = [evidence["kind"] for evidence in told["evidence"]]
    assert kept == (["har"] if body == "short" else ["body", "har"])


def test_a_curl_line_says_what_it_does_not_show(quay):
    told = result(quay, step("b", "basic", "$statusCode == 418"))
    assert (
        "(replace authorization with the real value, which is masked here)"
        in told["message"].lower()
    )


def test_archives_have_redirects_and_the_time_of_each_request(quay):
    told = result(
        quay, step("h", "hop", **{"x-contract": []}), step("t", "text", **{"x-contract": []})
    )
    assert told["outcome"] == "passed", told["message"]
    (kept,) = [evidence for evidence in told["evidence"] if evidence["kind"] == "har"]
    (archive,) = quay.path.glob(f".wolfbane/runs/*/{kept['path']}")
    entries = json.loads(archive.read_text())["log"]["entries"]
    asked = [(e["request"]["url"].rpartition("/")[2], e["response"]["status"]) for e in entries]
    assert asked == [("hop", 302), ("text", 200), ("text", 200)]
    assert entries[0]["response"]["redirectURL"] == "/text"
    began = [entry["startedDateTime"] for entry in entries]
    assert began == sorted(began)


def test_redirects_before_the_time_limit_stay_in_the_archive(quay, monkeypatch):
    monkeypatch.setattr(Desk, "do_hop", lambda self, path: self.answer(302, {}, Location="/hang"))
    timed = SETTINGS.replace('kind = "workflow"', 'kind = "workflow"\ntimeout = "4s"', 1)
    quay.file("wolfbane.toml", timed.replace('read = "2s"', 'read = "60s"'))
    told = result(quay, step("h", "hop", **{"x-contract": []}))
    assert told["outcome"] == "timed out", told["message"]
    (kept,) = [evidence for evidence in told["evidence"] if evidence["kind"] == "har"]
    (archive,) = quay.path.glob(f".wolfbane/runs/*/{kept['path']}")
    entries = json.loads(archive.read_text())["log"]["entries"]
    asked = [(e["request"]["url"].rpartition("/")[2], e["response"]["status"]) for e in entries]
    assert asked == [("hop", 302), ("hang", 0)]
