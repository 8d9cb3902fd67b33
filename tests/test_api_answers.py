"""Answers held against descriptions; servers that misbehave; documents that are wrong or far."""

from __future__ import annotations

import json
import re

import jsonschema
import pytest

from quay_api import (
    DESCRIPTION,
    JSON,
    SECRET,
    SETTINGS,
    flows,
    param,
    quay,
    result,
    results,
    run,
    server,
    step,
    value,
)

__all__ = ["quay", "server"]  # fixtures


def test_answers_are_held_against_their_description(quay):
    told = result(quay, step("s", "berth", "$statusCode == 200"))
    assert told["outcome"] == "failed"
    for message in (
        "headers at X-Count",
        "headers at X-Page: expected a value",
        "body at /: expected a field 'depth'",
        "body at /length: expected type number",
        "body at /tags/0: expected type string, found 1",
    ):
        assert message in told["message"], told["message"]
    text = result(quay, step("s", "text", "$statusCode == 200"))
    assert "type: expected application/json, found text/plain" in text["message"]
    odd = result(
        quay, step("s", "status", "$statusCode == 503", parameters=[value("code", "path", 503)])
    )
    assert "status: expected one of 200, 4XX, found 503" in odd["message"]
    quay.file("wolfbane.toml", SETTINGS.replace("redirects = 3", "redirects = 3\ncontract = []"))
    assert result(quay, step("s", "berth", "$statusCode == 200"))["outcome"] == "passed"


MISBEHAVING = [
    ("hang", "no response within 2 s", "errored"),
    ("slowly", "no response within 2 s", "errored"),
    ("drip", "the body was not complete within 2 s", "errored"),
    ("huge", "the body is longer than", "errored"),
    ("early", "the server closed the connection", "errored"),
    ("loop", "more than 3 redirects", "errored"),
    ("broken", "contract, body: expected JSON", "failed"),
]


def test_servers_that_misbehave_cost_their_step(quay):
    workflows = [{"steps": [step("s", name), step("never", "text")]} for name, _, _ in MISBEHAVING]
    for told, (_, said, outcome) in zip(results(quay, workflows), MISBEHAVING, strict=True):
        assert (told["outcome"], said in told["message"]) == (outcome, True), told["message"]
        assert len(told["parts"]) == 1


def test_a_server_that_is_down(quay):
    flows(quay, {"workflowId": "w", "steps": [step("s", "text")]})
    done = quay.run("--set", "url=http://127.0.0.1:1", "--set", "token=@token.txt")
    assert "connection refused" in done.results["flows/a.arazzo.yaml#w"]["message"]


def test_cookies_of_a_workflow_and_of_a_step_travel_together(quay):
    own = {"parameters": [{"name": "Cookie", "in": "header", "value": "crew=ebb; berth=own"}]}
    kept = "$response.body#/sent == 'crew=ebb; berth=own'"
    told = result(quay, step("c1", "cookie"), step("c2", "cookie", kept, **own))
    assert told["outcome"] == "passed", told["message"]


def test_security_and_cookies_and_archives(quay):
    told = result(
        quay,
        step("k", "key"),
        step("b", "basic"),
        step("g", "granted"),
        step("c1", "cookie"),
        step("c2", "cookie", "$response.body#/sent == 'berth=A1'"),
    )
    assert told["outcome"] == "passed", told["message"]
    key, basic, token, granted, *_ = quay.server.seen
    assert key["query"] == {"api_key": [SECRET]}
    assert basic["headers"]["Authorization"].startswith("Basic ")
    assert token["body"] == "grant_type=client_credentials&scope=book"
    assert granted["headers"]["Authorization"] == "Bearer granted-42"
    (archive,) = quay.path.glob(".wolfbane/runs/*/evidence/*.har")
    kept = json.loads(archive.read_text())
    jsonschema.validate(kept, HAR)
    assert [entry["response"]["status"] for entry in kept["log"]["entries"]] == [200] * 5
    left = [p.read_text(errors="replace") for p in quay.path.rglob("*.*") if p.is_file()]
    assert sum(SECRET in text for text in left) == 1  # token.txt


_HEADERS = {"type": "array", "items": {"required": ["name", "value"]}}
_MESSAGE = ["cookies", "headers", "headersSize", "bodySize", "httpVersion"]
HAR = {
    "required": ["log"],
    "properties": {
        "log": {
            "required": ["version", "creator", "entries"],
            "properties": {
                "version": {"const": "1.2"},
                "creator": {"required": ["name", "version"]},
                "entries": {
                    "minItems": 1,
                    "items": {
                        "required": [
                            "startedDateTime",
                            "time",
                            "request",
                            "response",
                            "cache",
                            "timings",
                        ],
                        "properties": {
                            "startedDateTime": {
                                "pattern": r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d.*[+Z]"
                            },
                            "time": {"type": "number", "minimum": 0},
                            "timings": {"required": ["send", "wait", "receive"]},
                            "request": {
                                "required": ["method", "url", "queryString", *_MESSAGE],
                                "properties": {
                                    "url": {"pattern": "^https?://"},
                                    "headers": _HEADERS,
                                    "queryString": _HEADERS,
                                    "bodySize": {"type": "integer"},
                                    "postData": {"required": ["mimeType", "text"]},
                                },
                            },
                            "response": {
                                "required": [
                                    "status",
                                    "statusText",
                                    "content",
                                    "redirectURL",
                                    *_MESSAGE,
                                ],
                                "properties": {
                                    "status": {"type": "integer"},
                                    "headers": _HEADERS,
                                    "content": {
                                        "required": ["size", "mimeType"],
                                        "properties": {"encoding": {"const": "base64"}},
                                    },
                                },
                            },
                        },
                    },
                },
            },
        }
    },
}
"""What the specification of HTTP archives (HAR 1.2) asks for."""


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("stepId: s", "stepID: s"), "unknown field 'stepID'; did you mean stepId?"),
        (("url: ../openapi.json", "url: ../openapy.json"), "openapy.json"),
        (("workflows:", "workflows: ["), "not valid YAML"),
        (("../openapi.json", "../broken.json"), "broken.json:1: cannot resolve '#/nowhere'"),
    ],
)
def test_documents_that_are_wrong(quay, change, said):
    flows(
        quay,
        {"workflowId": "w", "dependsOn": [], "steps": [step("s", "text", "$statusCode == 200")]},
    )
    broken = {**DESCRIPTION, "paths": {"/text": {"$ref": "#/nowhere"}}}
    quay.file("broken.json", json.dumps(broken))
    path = quay.path / "flows/a.arazzo.yaml"
    assert change[0] in path.read_text()
    path.write_text(path.read_text().replace(*change))
    done = run(quay)
    told = done.results["flows/a.arazzo.yaml"]
    assert (done.code, told["outcome"]) == (1, "errored")
    assert said in told["message"], told["message"]
    assert re.match(
        r"(flows/a.arazzo.yaml|broken.json):\d+: |flows/a.arazzo.yaml: ", told["message"]
    )


def test_coverage_is_said(quay):
    flows(quay, {"workflowId": "w", "steps": [step("s", "xml"), step("t", "cookie")]})
    out = run(quay).text
    assert "openapi.json: 2 of 27 operations, statuses 200; not called: echo, matrix" in out


def test_documents_by_url_are_kept_and_looked_at_again(quay):
    describe = json.dumps(DESCRIPTION)
    flows(quay, {"workflowId": "w", "steps": [step("s", "cookie")]})
    own = quay.path / "flows/a.arazzo.yaml"
    quay.server.documents = {
        "openapi.json": describe,
        "far.arazzo.yaml": own.read_text().replace(
            "../openapi.json", f"{quay.url}/docs/openapi.json"
        ),
    }
    own.unlink()
    text = SETTINGS.replace('paths = ["flows"]', f'paths = ["{quay.url}/docs/far.arazzo.yaml"]')
    quay.file("wolfbane.toml", text.replace("read =", 'documents_token = "{token}"\nread ='))
    folder = f".wolfbane/copies/127.0.0.1_{quay.server.server_port}/docs"
    nothing = run(quay, "--offline")
    assert nothing.code == 2 and "there is no saved copy (--offline)" in nothing.err
    first = run(quay)
    assert first.outcomes == {f"{folder}/far.arazzo.yaml#w": "passed"}, first.out
    assert "sha256" in first.out and "out of date" not in first.out
    assert len(list(quay.path.glob(".wolfbane/runs/*/documents/*"))) == 2
    quay.server.documents["openapi.json"] = describe.replace('"1"', '"2"')
    assert "docs/openapi.json: the saved copy is out of date" in run(quay).out
    assert "out of date" not in run(quay, "--offline").out
    assert "out of date" not in run(quay, "--refresh").out
    assert '"2"' in (quay.path / folder / "openapi.json").read_text()
    left = [p.read_text(errors="replace") for p in quay.path.rglob("*.*") if p.is_file()]
    assert sum(SECRET in text for text in left) == 1  # token.txt


OLDER = {
    "2.0": {
        "swagger": "2.0",
        "info": {"title": "t", "version": "1"},
        "basePath": "/v1",
        "paths": {
            "/echo/{id}": {
                "post": {
                    "operationId": "send",
                    "consumes": ["application/json"],
                    "parameters": [
                        {"name": "id", "in": "path", "required": True, "type": "string"},
                        {
                            "name": "l",
                            "in": "query",
                            "type": "array",
                            "items": {"type": "string"},
                            "collectionFormat": "pipes",
                        },
                        {"name": "wish", "in": "body", "schema": {"$ref": "#/definitions/Wish"}},
                    ],
                    "responses": {
                        "200": {"description": "x", "schema": {"$ref": "#/definitions/Told"}}
                    },
                }
            }
        },
        "definitions": {
            "Wish": {"type": "object"},
            "Told": {"type": "object", "required": ["raw", "berth"]},
        },
    },
    "3.0": {
        "openapi": "3.0.3",
        "info": {"title": "t", "version": "1"},
        "paths": {"/echo/{id}": {"$ref": "parts.json#/echo"}},
        "components": {"schemas": {"Told": {"$ref": "parts.json#/Told"}}},
    },
}
PARTS = {
    "echo": {
        "post": {
            "operationId": "send",
            "parameters": [
                param("id", "path"),
                {**param("l", "query"), "style": "pipeDelimited", "explode": False},
            ],
            "requestBody": JSON,
            "responses": {
                "200": {
                    "description": "x",
                    "content": {
                        "application/json": {"schema": {"$ref": "#/components/schemas/Told"}}
                    },
                }
            },
        }
    },
    "Told": {
        "type": "object",
        "required": ["raw", "berth"],
        "properties": {"raw": {"type": "string", "nullable": True}},
    },
}


@pytest.mark.parametrize("version", OLDER)
def test_older_descriptions_and_other_files(quay, version):
    quay.file("openapi.json", json.dumps(OLDER[version]))
    quay.file("wolfbane.toml", re.sub("security = .*", "", SETTINGS))
    quay.file("parts.json", json.dumps(PARTS))
    given = [value("id", "path", 1), value("l", "query", ["a", "b"])]
    told = result(quay, step("s", "send", parameters=given, requestBody={"payload": {}}))
    assert "body at /: expected a field 'berth'" in told["message"], told["message"]
    assert told["message"].count("contract") == 1
    assert quay.server.seen[0]["raw"] == "/echo/1?l=a%7Cb"
