"""Names and templates of workflows that are wrong: told by line, before any request."""

from __future__ import annotations

import json

from quay_api import DESCRIPTION, SETTINGS, flows, quay, result, results, run, server, step, value

__all__ = ["quay", "server"]  # fixtures

INPUTS = {"type": "object", "properties": {"token": {"default": "ebb"}, "day": {}}}


def asked(expression):
    """A step that sends what an expression stands for."""
    return step("s", "echo", parameters=[value("id", "path", expression)], outputs={"x": "$url"})


UNKNOWN = [
    ("$inputs.tokn", "there is no input 'tokn'; did you mean token?"),
    ("a {$inputs.tokn}", "there is no input 'tokn'"),
    ("$steps.nostep.outputs.x", "there is no step 'nostep'"),
    ("$steps.s.outputs.y", "there is no output of step 's' 'y'; known: x"),
    ("$workflows.nowf.outputs.x", "there is no workflow 'nowf'; known: w0, w1"),
    ("$workflows.w0.outputs.who", "there is no output of workflow 'w0' 'who'; did you mean why?"),
    ("$components.parameters.nope", "there is no component 'nope'; known: page"),
    ("$sourceDescriptions.quai.url", "no source description 'quai'; did you mean quay?"),
    ("$sourceDescriptions.quay.ulr", "there is no field of source 'quay' 'ulr'"),
    ("$statuscode", "there is no $statuscode; did you mean statusCode?"),
]


def test_unknown_names_are_told_before_any_request(quay):
    page = {"name": "page", "in": "query", "value": 1}
    flows(
        quay,
        *(
            {
                "workflowId": f"w{n}",
                "inputs": INPUTS,
                "outputs": {"why": "$url"},
                "steps": [step("first", "text"), asked(expression)],
            }
            for n, (expression, _) in enumerate(UNKNOWN)
        ),
        components={"parameters": {"page": page}},
    )
    done = run(quay)
    assert quay.server.seen == []
    text = (quay.path / "flows/a.arazzo.yaml").read_text().splitlines()
    for n, (expression, said) in enumerate(UNKNOWN):
        told = done.results[f"flows/a.arazzo.yaml#w{n}"]
        assert (told["outcome"], said in told["message"]) == ("errored", True), told["message"]
        assert told["message"].startswith("flows/a.arazzo.yaml:")
        line = int(told["message"].split(":")[1])
        assert expression in "\n".join(text[line - 1 : line + 3])


BROKEN = [
    (step("s", "txt"), "there is no operation 'txt'; did you mean text?"),
    (step("s", "text", "$statusCode = 200"), "unexpected '='"),
    (step("s", "text", "$inputs.tide == 1"), "there is no input 'tide'"),
    (
        step("s", "text", {"context": "$response.body", "condition": "(", "type": "regex"}),
        "not a regular expression",
    ),
    (
        step("s", "text", onFailure=[{"reference": "$components.failureActions.agian"}]),
        "there is no component '$components.failureActions.agian'",
    ),
    (
        step(
            "s",
            "echo",
            parameters=[value("id", "path", 1)],
            requestBody={"payload": '{"boat": "{$inputs.boat}", }'},
        ),
        "is not valid JSON",
    ),
    (step("s", "text", **{"x-contract": ["statsu"]}), "did you mean status?"),
    (step("s", "text", **{"x-read": "soon"}), "'soon' is not a duration"),
    (
        step("s", workflowId="fine", parameters=[{"name": "dya", "value": 1}]),
        "workflow 'fine' has no input 'dya'; did you mean day?",
    ),
]


def test_what_is_wrong_with_one_workflow_does_not_cost_the_others(quay):
    closed = {"properties": {"day": {"default": 1}}, "additionalProperties": False}
    boat = {"properties": {"boat": {}}}
    flows(
        quay,
        {"workflowId": "fine", "inputs": closed, "steps": [step("s", "xml")]},
        *(
            {"workflowId": f"broken{n}", "inputs": boat, "steps": [broken]}
            for n, (broken, _) in enumerate(BROKEN)
        ),
        *(
            {"workflowId": f"calls{n}", "steps": [step("s", workflowId=f"broken{n}")]}
            for n in range(len(BROKEN))
        ),
        *(
            {"workflowId": f"needs{n}", "dependsOn": [f"broken{n}"], "steps": [step("s", "xml")]}
            for n in range(len(BROKEN))
        ),
    )
    done = run(quay)
    told = {address.partition("#")[2]: r for address, r in done.results.items()}
    assert told["fine"]["outcome"] == "passed"
    for n, (_, said) in enumerate(BROKEN):
        outcomes = [told[f"{name}{n}"]["outcome"] for name in ("broken", "calls", "needs")]
        assert outcomes == ["errored", "errored", "blocked"]
        assert said in told[f"broken{n}"]["message"], told[f"broken{n}"]["message"]
        assert said in told[f"calls{n}"]["message"]
    assert len(quay.server.seen) == 1


def test_circles_of_workflows_cost_themselves(quay):
    flows(
        quay,
        {"workflowId": "a", "dependsOn": ["b"], "steps": [step("s", "xml")]},
        {"workflowId": "b", "dependsOn": ["a"], "steps": [step("s", "xml")]},
        {"workflowId": "c", "steps": [step("s", "xml")]},
    )
    outcomes = run(quay).outcomes
    assert sorted(outcomes.values()) == ["errored", "errored", "passed"]


MISSING = [
    (
        [
            step(
                "get",
                "status",
                parameters=[value("code", "path", 200)],
                outputs={"next": "$response.body#/next"},
            ),
            asked("$steps.get.outputs.next"),
        ],
        "errored",
        "$steps.get.outputs.next has no value: the response of step 'get'",
    ),
    (
        [asked("$steps.later.outputs.x"), step("later", "text", outputs={"x": "$url"})],
        "errored",
        "step 'later' has not run",
    ),
    ([asked("$inputs.day")], "errored", "the input 'day' has no value"),
    (
        [
            step(
                "get",
                "status",
                "$response.body#/next == null",
                "$inputs.day == null",
                parameters=[value("code", "path", 200)],
            )
        ],
        "passed",
        "",
    ),
]


def test_values_that_turn_out_to_be_missing(quay):
    workflows = [{"steps": steps, "inputs": INPUTS} for steps, _, _ in MISSING]
    for told, (_, outcome, said) in zip(results(quay, workflows), MISSING, strict=True):
        assert (told["outcome"], said in told["message"]) == (outcome, True), told["message"]


def test_an_input_that_a_called_workflow_needs(quay):
    needs = {"type": "object", "required": ["berth"], "properties": {"berth": {}}}
    inner = {"workflowId": "inner", "inputs": needs, "steps": [asked("$inputs.berth")]}
    outer = {"workflowId": "outer", "steps": [step("f", "xml"), step("c", workflowId="inner")]}
    flows(quay, inner, outer)
    done = run(quay)
    assert set(done.outcomes.values()) == {"blocked"} and quay.server.seen == []
    said = done.results["flows/a.arazzo.yaml#outer"]["message"]
    assert "workflow 'inner' needs the input 'berth', but no value is given" in said
    quay.file("wolfbane.toml", SETTINGS + '[param.berth]\ndefault = "A1"\n')
    assert set(run(quay).outcomes.values()) == {"passed"}
    assert [seen["path"] for seen in quay.server.seen] == ["/echo/A1", "/xml", "/echo/A1"]


def test_security_that_no_description_has(quay):
    flows(quay, {"workflowId": "w", "steps": [step("s", "xml")]})
    quay.file("wolfbane.toml", SETTINGS.replace("security = { key", "security = { kye"))
    done = run(quay)
    assert done.code == 2 and quay.server.seen == []
    assert "wolfbane.toml:" in done.err and "did you mean key?" in done.err, done.err
    quay.file("wolfbane.toml", SETTINGS)
    odd = json.loads(json.dumps(DESCRIPTION).replace('{"key": []}', '{"kay": []}'))
    quay.file("openapi.json", json.dumps(odd))
    told = result(quay, step("s", "key"))
    assert told["outcome"] == "errored" and "did you mean key?" in told["message"]
