"""Arazzo workflows: what they send, where their steps lead, what they find."""

from __future__ import annotations

import json

import pytest

from quay_api import (
    DESCRIPTION,
    SETTINGS,
    flows,
    quay,
    result,
    results,
    run,
    server,
    step,
    value,
)

__all__ = ["quay", "server"]  # fixtures


def test_parameters_are_written_as_their_styles_say(quay):
    deep = {"berth": "A1", "nights": 2}
    echo = step(
        "s",
        "echo",
        parameters=[
            value("id", "path", "a/b c"),
            value("list", "query", ["x", "y&z"]),
            value("piped", "query", [1, 2]),
            value("deep", "query", deep),
            value("X-List", "header", ["p", "q"]),
            value("free", "query", True),
            value("crew", "cookie", "ebb"),
        ],
    )
    many = step("m", "matrix", parameters=[value("m", "path", ["a", "b"]), value("l", "path", 3)])
    assert result(quay, echo, many)["outcome"] == "passed"
    first, second = quay.server.seen
    assert first["path"] == "/echo/a%2Fb%20c"
    assert "list=x&list=y%26z&piped=1%7C2&deep%5Bberth%5D=A1&deep%5Bnights%5D=2" in first["raw"]
    assert first["query"]["free"] == ["true"]
    assert (first["headers"]["X-List"], first["headers"]["Cookie"]) == ("p,q", "crew=ebb")
    assert second["path"] == "/matrix/;m=a;m=b/.3"


BODIES = [
    (
        {"payload": {"boat": "$inputs.boat", "n": [1, "{$inputs.boat}!"]}},
        "application/json",
        '{"boat": "Grey Heron", "n": [1, "Grey Heron!"]}',
    ),
    ({"payload": '{"boat": "{$inputs.boat}"}'}, "application/json", '{"boat": "Grey Heron"}'),
    (
        {"payload": {"a": {"b": 1}}, "replacements": [{"target": "/a/b", "value": "$inputs.boat"}]},
        "application/json",
        '{"a": {"b": "Grey Heron"}}',
    ),
    (
        {"contentType": "application/x-www-form-urlencoded", "payload": {"a": [1, "b c"]}},
        "application/x-www-form-urlencoded",
        "a=1&a=b+c",
    ),
    (
        {"contentType": "multipart/form-data", "payload": {"a": "tide", "b": {"c": 1}}},
        "multipart/form-data; boundary",
        'name="a"\r\nContent-Type: text/plain\r\n\r\ntide',
    ),
    ({"contentType": "text/plain", "payload": "to {$inputs.boat}"}, "text/plain", "to Grey Heron"),
    (
        {
            "contentType": "application/xml",
            "payload": "<a><b n='1'/></a>",
            "replacements": [{"target": "/a/b/@n", "value": 2}],
        },
        "application/xml",
        '<a><b n="2"/></a>',
    ),
]


def test_bodies(quay):
    inputs = {"type": "object", "properties": {"boat": {"type": "string"}}}
    echo = [
        step("s", "echo", parameters=[value("id", "path", 1)], requestBody=body)
        for body, _, _ in BODIES
    ]
    told = results(quay, [{"steps": [each], "inputs": inputs} for each in echo])
    assert [each["outcome"] for each in told] == ["passed"] * len(BODIES)
    for seen, (_, kind, sent) in zip(quay.server.seen, BODIES, strict=True):
        assert kind in seen["headers"]["Content-Type"]
        assert sent in seen["body"]


CRITERIA = [
    ("$statusCode == 200 && $response.body#/path == '/ECHO/1'", True),
    ("$response.body.query.q[0] == 'x' && !($statusCode >= 300)", True),
    ("$request.query.q == 'x' && $request.path.id == 1 && $method == 'POST'", True),
    ("$url == 'http://elsewhere'", False),
    ("$request.header.X-Boat == 'ebb' || $response.header.Content-Type == 'none'", True),
    ("$response.body#/nothing == null", True),
    ({"context": "$response.body#/path", "condition": "^/echo/\\d$", "type": "regex"}, True),
    ({"context": "$response.body", "condition": "$.query.q[?@ == 'y']", "type": "jsonpath"}, False),
    (
        {
            "context": "$response.body",
            "condition": "$..q",
            "type": {"type": "jsonpath", "version": "draft-goessner-dispatch-jsonpath-00"},
        },
        True,
    ),
]


def test_criteria_say_what_they_found(quay):
    given = [value("id", "path", 1), value("q", "query", "x"), value("X-Boat", "header", "ebb")]
    steps = [step("s", "echo", criterion, parameters=given) for criterion, _ in CRITERIA]
    for told, (criterion, holds) in zip(
        results(quay, [{"steps": [each]} for each in steps]), CRITERIA, strict=True
    ):
        message = told["message"]
        assert told["outcome"] == ("passed" if holds else "failed"), f"{criterion}: {message}"
        if not holds:
            assert "is not true" in message and " is " in message
            assert "to repeat the request: curl -i -X POST -L" in message


def test_xml_is_read_by_xpath(quay):
    path = {"context": "$response.body", "condition": "//berth[@length > 10]", "type": "xpath"}
    assert result(quay, step("s", "xml", path))["outcome"] == "passed"
    none = {**path, "condition": "count(//berth) = 2"}
    assert result(quay, step("s", "xml", none))["outcome"] == "failed"


def test_outputs_lead_from_step_to_step_and_out(quay):
    inner = {
        "workflowId": "inner",
        "inputs": {"type": "object", "properties": {"day": {"default": "monday"}}},
        "steps": [
            step(
                "s",
                "echo",
                parameters=[value("id", "path", "$inputs.day")],
                outputs={"path": "$response.body#/path", "whole": "$response.body"},
            )
        ],
        "outputs": {"path": "$steps.s.outputs.path", "deep": "$steps.s.outputs.whole#/path"},
    }
    flows(
        quay,
        inner,
        {
            "workflowId": "outer",
            "steps": [
                step(
                    "call",
                    None,
                    "$outputs.path == '/echo/friday'",
                    "$statusCode == 200",
                    workflowId="inner",
                    parameters=[{"name": "day", "value": "friday"}],
                    outputs={"renamed": "$outputs.path", "whole": "$response.body"},
                ),
                step(
                    "use",
                    "echo",
                    "$response.body#/query/p/0 == '/echo/friday'",
                    parameters=[
                        value("id", "path", 1),
                        value("p", "query", "$steps.call.outputs.renamed"),
                    ],
                ),
                step(
                    "quoted",
                    "echo",
                    '$response.body#/body == \'{"a": "x \\"y", "b": [1]}\'',
                    parameters=[value("id", "path", 1)],
                    requestBody={"payload": '{"a": "x {$inputs.said}", "b": "{$inputs.list}"}'},
                ),
            ],
            "inputs": {"properties": {"said": {"default": '"y'}, "list": {"default": [1]}}},
        },
        {
            "workflowId": "deep",
            "steps": [
                step("call", workflowId="inner", parameters=[{"name": "day", "value": "friday"}]),
                step(
                    "use",
                    "echo",
                    "$response.body#/query/p/0 == '/echo/friday'",
                    parameters=[
                        value("id", "path", 1),
                        value("p", "query", "$steps.call.outputs.deep"),
                    ],
                ),
            ],
        },
    )
    done = run(quay)
    assert set(done.outcomes.values()) == {"passed"}, done.out


def test_actions_retry_go_on_and_end(quay):
    again = {"name": "again", "type": "retry", "retryLimit": 3, "retryAfter": 60}
    flows(
        quay,
        {
            "workflowId": "w",
            "steps": [
                step(
                    "busy",
                    "busy",
                    "$statusCode == 200",
                    onFailure=[{"reference": "$components.failureActions.again"}],
                ),
                step(
                    "lost",
                    "status",
                    "$statusCode == 200",
                    parameters=[value("code", "path", 404)],
                    onFailure=[
                        {
                            "name": "skip",
                            "type": "goto",
                            "stepId": "last",
                            "criteria": [{"condition": "$statusCode == 404"}],
                        }
                    ],
                ),
                step("never", "status", parameters=[value("code", "path", 500)]),
                step("last", "cookie", onSuccess=[{"name": "done", "type": "end"}]),
                step("nor", "hang"),
            ],
        },
        components={"failureActions": {"again": again}},
    )
    told = run(quay).results["flows/a.arazzo.yaml#w"]
    assert told["outcome"] == "passed", told["message"]
    assert [part["name"].split()[0] for part in told["parts"]] == [
        "busy:",
        "busy:",
        "busy:",
        "lost:",
        "last:",
    ]
    assert "retried (again)" in told["parts"][0]["message"]
    assert "handled (skip)" in told["parts"][3]["message"]


LEADS_AWAY = [{"name": "skip", "type": "goto", "stepId": "last"}]


def test_only_a_criterion_can_be_handled(quay):
    """The flow goes on, so that steps that clean up run, but the test fails."""
    lost = step("s", "status", parameters=[value("code", "path", 404)], onFailure=LEADS_AWAY)
    first = {
        "criterion": lost,
        "contract": step("s", "berth", onFailure=LEADS_AWAY),
        "no-response": step("s", "drop", onFailure=LEADS_AWAY),
        "no-value": step(
            "s",
            "echo",
            parameters=[value("id", "path", "$steps.f.outputs.x")],
            onFailure=LEADS_AWAY,
        ),
    }
    before = step(
        "f",
        "status",
        "true",
        parameters=[value("code", "path", 200)],
        outputs={"x": "$response.header.X-None"},
    )
    flows(
        quay,
        *(
            {"workflowId": name, "steps": [before, each, step("last", "cookie")]}
            for name, each in first.items()
        ),
    )
    done = run(quay)
    ended = {address.partition("#")[2]: outcome for address, outcome in done.outcomes.items()}
    assert ended == {
        "criterion": "passed",
        "contract": "failed",
        "no-response": "errored",
        "no-value": "errored",
    }
    assert [seen["path"] for seen in quay.server.seen].count("/cookie") == 4
    assert done.out.count("handled  ") == 1
    assert "#criterion step s handled (skip)" in done.text
    parts = done.results["flows/a.arazzo.yaml#contract"]["parts"]
    assert "handled (skip), but it fails the test" in parts[1]["message"]


def test_a_dropped_request_is_not_sent_again(quay):
    told = result(quay, step("one", "cookie"), step("two", "drop"))
    assert told["outcome"] == "errored"
    assert [seen["path"] for seen in quay.server.seen] == ["/cookie", "/drop"]


UNREAD = [
    ("text", "$response.body#/errors == null", "the body of the response is not JSON (text/plain)"),
    ("text", "$response.body#/nope != 1", "is not JSON"),
    ("broken", "$response.body#/id != 1", "is not JSON"),
    ("berth", "$response.body#/nope != 1", "$response.body#/nope is absent"),
    ("berth", "$response.header.X-Cuont != 1", "$response.header.X-Cuont is absent"),
    ("berth", "$response.body#/tags/0 == '1'", "the types differ: a text is not a number"),
    ("berth", "$response.body#/length > 1", "the types differ: a text is not a number"),
]


@pytest.mark.parametrize(("where", "criterion", "message"), UNREAD)
def test_criteria_do_not_guess(quay, where, criterion, message):
    quay.file("wolfbane.toml", SETTINGS.replace("[suite.http]", "[suite.http]\ncontract = []"))
    told = result(quay, step("s", where, criterion))
    assert (told["outcome"], message in told["message"]) == ("failed", True), told["message"]


def test_what_others_depend_on_runs_first_and_is_said(quay):
    flows(
        quay,
        {
            "workflowId": "late",
            "dependsOn": ["early"],
            "steps": [
                step("s", "echo", parameters=[value("id", "path", "$workflows.early.outputs.x")])
            ],
        },
        {
            "workflowId": "early",
            "steps": [step("s", "text", outputs={"x": "$statusCode"})],
            "outputs": {"x": "$steps.s.outputs.x"},
        },
        {"workflowId": "stuck", "dependsOn": ["fails"], "steps": [step("s", "cookie")]},
        {
            "workflowId": "fails",
            "steps": [step("s", "status", parameters=[value("code", "path", 500)])],
        },
    )
    done = run(quay, "--name", "late,stuck", "--pick", "name:late or name:stuck")
    assert "also runs" in done.out and "#early, because" in done.out
    ended = {address.partition("#")[2]: outcome for address, outcome in done.outcomes.items()}
    assert ended == {"early": "failed", "late": "blocked", "fails": "failed", "stuck": "blocked"}
    assert quay.server.seen[0]["path"] in ("/text", "/status/500")


def test_rows_are_tests_of_their_own(quay):
    quay.file("flows/ships.csv", "name,length\nGrey Heron,9.5\nLittle Tern,6\nLittle Tern,7\n")
    inputs = {"type": "object", "properties": {"length": {"type": "number"}}}
    sent = [value("id", "path", 1), value("l", "query", "$inputs.length")]
    flows(
        quay,
        {
            "workflowId": "w",
            "x-rows": "ships.csv",
            "inputs": inputs,
            "x-tags": ["ships"],
            "steps": [step("s", "echo", "$inputs.length < 9", parameters=sent)],
        },
    )
    done = run(quay, "--tag", "ships", "-j1")
    ended = {address.partition("#")[2]: outcome for address, outcome in done.outcomes.items()}
    assert ended == {
        "w / Grey Heron": "failed",
        "w / Little Tern": "passed",
        "w / Little Tern (2)": "passed",
    }
    assert quay.server.seen[1]["query"] == {"l": ["6"]}
    listed = json.loads(quay.call("list", "--tag", "talk", "--as", "json").out)
    assert listed[0]["name"] == "w / Grey Heron"


def test_inputs_that_nothing_fills_are_told_before_any_request(quay):
    inputs = {
        "type": "object",
        "required": ["berth", "boat"],
        "properties": {"berth": {"type": "string"}, "boat": {"type": "string"}},
    }
    told = result(quay, step("s", "text"), inputs=inputs)
    assert (told["outcome"], quay.server.seen) == ("blocked", [])
    assert "no value for the input 'berth'" in told["message"]


def test_workflows_of_another_document(quay):
    flows(
        quay,
        {
            "workflowId": "far",
            "steps": [step("s", "text", outputs={"x": "$statusCode"})],
            "outputs": {"x": "$steps.s.outputs.x"},
        },
        name="b",
    )
    quay.file(
        "wolfbane.toml",
        SETTINGS.replace("read =", "contract = []\nread =").replace(
            'paths = ["flows"]', 'paths = ["flows/a.arazzo.yaml"]'
        ),
    )
    sources = [
        {"name": "quay", "url": "../openapi.json", "type": "openapi"},
        {"name": "b", "url": "b.arazzo.yaml", "type": "arazzo"},
    ]
    flows(
        quay,
        {
            "workflowId": "w",
            "dependsOn": ["$sourceDescriptions.b.far"],
            "steps": [
                step("call", None, "$outputs.x == 200", workflowId="$sourceDescriptions.b.far"),
                step(
                    "path",
                    None,
                    "$statusCode == 200",
                    operationPath="{$sourceDescriptions.quay.url}#/paths/~1text/get",
                ),
                step("id", "$sourceDescriptions.quay.cookie"),
            ],
        },
        sourceDescriptions=sources,
    )
    done = run(quay)
    assert done.outcomes == {"flows/a.arazzo.yaml#w": "passed"}, done.out
    assert [seen["path"] for seen in quay.server.seen] == ["/text", "/text", "/text", "/cookie"]


def test_components_and_what_a_workflow_says_for_all_of_its_steps(quay):
    flows(
        quay,
        {
            "workflowId": "w",
            "inputs": {"$ref": "#/components/inputs/day"},
            "parameters": [
                {"reference": "$components.parameters.page", "value": 7},
                {"reference": "$components.parameters.berth"},
            ],
            "successActions": [{"reference": "$components.successActions.leave"}],
            "failureActions": [{"name": "wake", "type": "retry", "workflowId": "wake"}],
            "steps": [
                step(
                    "s",
                    "echo",
                    "$request.query.page == 7",
                    parameters=[
                        value("p", "query", "$components.parameters.page.value"),
                        value("day", "query", "$inputs.day"),
                    ],
                ),
                step(
                    "busy",
                    "busy",
                    "$statusCode == 200",
                    parameters=[],
                    onFailure=[{"name": "again", "type": "retry", "retryLimit": 5, "stepId": "s"}],
                ),
                step(
                    "odd", "status", "$statusCode == 200", parameters=[value("code", "path", 404)]
                ),
                step("never", "hang"),
            ],
        },
        {"workflowId": "wake", "steps": [step("up", "cookie")]},
        {
            "workflowId": "out",
            "steps": [step("bye", "cookie", outputs={"none": "$response.body#/none"})],
            "outputs": {"code": "$steps.bye.outputs.none"},
        },
        components={
            "inputs": {"day": {"type": "object", "properties": {"day": {"default": "monday"}}}},
            "parameters": {
                "page": {"name": "page", "in": "query", "value": 3},
                "berth": {"name": "id", "in": "path", "value": "A1"},
            },
            "successActions": {
                "leave": {
                    "name": "leave",
                    "type": "goto",
                    "workflowId": "out",
                    "criteria": [{"condition": "$url == 'never'"}],
                }
            },
        },
    )
    told = run(quay, "--name", "w", "--drop", "name:wake or name:out").results
    told = told["flows/a.arazzo.yaml#w"]
    first = quay.server.seen[0]
    assert first["path"] == "/echo/A1"
    assert first["query"] == {"page": ["7"], "p": ["3"], "day": ["monday"]}
    asked = [seen["path"] for seen in quay.server.seen]
    assert asked == [
        "/echo/A1",
        "/busy",
        "/echo/A1",
        "/busy",
        "/echo/A1",
        "/busy",
        "/status/404",
        "/cookie",
        "/status/404",
    ]
    assert told["outcome"] == "failed" and "step odd" in told["message"]


def test_a_success_action_leads_to_another_workflow(quay):
    flows(
        quay,
        {
            "workflowId": "w",
            "steps": [
                step(
                    "s", "cookie", onSuccess=[{"name": "go", "type": "goto", "workflowId": "out"}]
                ),
                step("never", "hang"),
            ],
        },
        {"workflowId": "out", "steps": [step("bye", "xml")]},
    )
    told = run(quay).results["flows/a.arazzo.yaml#w"]
    assert told["outcome"] == "passed" and len(told["parts"]) == 2


def test_a_file_as_a_body_and_the_servers_of_the_description(quay):
    port = quay.url.rpartition(":")[2]
    server = {
        "url": "http://{host}:{port}/v1",
        "variables": {"host": {"default": "127.0.0.1"}, "port": {"default": port}},
    }
    quay.file("openapi.json", json.dumps({**DESCRIPTION, "servers": [server]}))
    quay.file("wolfbane.toml", SETTINGS.replace('base_url = "{url}"\n', "contract = []\n", 1))
    quay.file("flows/chart.bin", "soundings")
    body = {"contentType": "application/octet-stream", "x-file": "chart.bin"}
    multipart = {"contentType": "multipart/form-data", "payload": {"chart": "x", "n": [1, 2]}}
    assert (
        result(
            quay,
            step("s", "echo", parameters=[value("id", "path", 1)], requestBody=body),
            step("m", "echo", parameters=[value("id", "path", 1)], requestBody=multipart),
        )["outcome"]
        == "passed"
    )
    first, second = quay.server.seen
    assert (first["path"], first["body"]) == ("/v1/echo/1", "soundings")
    assert first["headers"]["Content-Type"] == "application/octet-stream"
    assert second["body"].count('name="n"') == 2
