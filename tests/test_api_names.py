"""Names and templates of workflows that are wrong: told by line, before any request."""

from __future__ import annotations

import json

import pytest

from quay_api import DESCRIPTION, SETTINGS, flows, quay, result, run, server, step, value

__all__ = ["quay", "server"]  # fixtures

INPUTS = {"type": "object", "properties": {"token": {"default": "ebb"}, "day": {}}}


def asked(expression):
    """A step that sends what an expression stands for."""
    return step("s", "echo", parameters=[value("id", "path", expression)], outputs={"x": "$url"})


@pytest.mark.parametrize(
    ("expression", "said"),
    [
        ("$inputs.tokn", "there is no input 'tokn'; did you mean token?"),
        ("a {$inputs.tokn}", "there is no input 'tokn'"),
        ("$steps.nostep.outputs.x", "there is no step 'nostep'"),
        ("$steps.s.outputs.y", "there is no output of step 's' 'y'; there is: x"),
        ("$workflows.nowf.outputs.x", "there is no workflow 'nowf'; there is: w"),
        ("$workflows.w.outputs.who", "there is no output of workflow 'w' 'who'; did you mean why?"),
        ("$components.parameters.nope", "there is no component 'nope'; there is: page"),
        ("$sourceDescriptions.quai.url", "no source description 'quai'; did you mean quay?"),
        ("$sourceDescriptions.quay.ulr", "there is no field of source 'quay' 'ulr'"),
        ("$statuscode", "there is no $statuscode; did you mean statusCode?"),
    ],
)
def test_unknown_names_are_told_before_any_request(quay, expression, said):
    told = result(
        quay, step("first", "text"), asked(expression), inputs=INPUTS, outputs={"why": "$url"},
    ) if "components" not in expression else _with_components(quay, expression)  # fmt: skip
    assert (told["outcome"], quay.server.seen) == ("errored", [])
    assert said in told["message"], told["message"]
    assert told["message"].startswith("flows/a.arazzo.yaml:")
    line = int(told["message"].split(":")[1])
    text = (quay.path / "flows/a.arazzo.yaml").read_text().splitlines()
    assert expression in "\n".join(text[line - 1 : line + 3])


def _with_components(quay, expression):
    page = {"name": "page", "in": "query", "value": 1}
    flows(quay, {"workflowId": "w", "steps": [asked(expression)]},
          components={"parameters": {"page": page}})  # fmt: skip
    return run(quay).results["flows/a.arazzo.yaml#w"]


@pytest.mark.parametrize(
    ("broken", "said"),
    [
        (step("s", "txt"), "there is no operation 'txt'; did you mean text?"),
        (step("s", "text", "$statusCode = 200"), "'=' is not expected"),
        (step("s", "text", "$inputs.tide == 1"), "there is no input 'tide'"),
        (step("s", "text", {"context": "$response.body", "condition": "(", "type": "regex"}),
         "not a regular expression"),
        (step("s", "text", onFailure=[{"reference": "$components.failureActions.agian"}]),
         "there is no component '$components.failureActions.agian'"),
        (step("s", "echo", parameters=[value("id", "path", 1)],
              requestBody={"payload": '{"boat": "{$inputs.boat}", }'}), "is not valid JSON"),
        (step("s", "text", **{"x-contract": ["statsu"]}), "did you mean status?"),
        (step("s", "text", **{"x-read": "soon"}), "'soon' is not a duration"),
        (step("s", workflowId="fine", parameters=[{"name": "dya", "value": 1}]),
         "workflow 'fine' has no input 'dya'; did you mean day?"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_one_workflow_does_not_cost_the_others(quay, broken, said):
    closed = {"properties": {"day": {"default": 1}}, "additionalProperties": False}
    flows(
        quay,
        {"workflowId": "fine", "inputs": closed, "steps": [step("s", "xml")]},
        {"workflowId": "broken", "inputs": {"properties": {"boat": {}}}, "steps": [broken]},
        {"workflowId": "calls", "steps": [step("s", workflowId="broken")]},
        {"workflowId": "needs", "dependsOn": ["broken"], "steps": [step("s", "xml")]},
    )
    done = run(quay)
    told = {address.partition("#")[2]: r for address, r in done.results.items()}
    assert {name: r["outcome"] for name, r in told.items()} == {
        "fine": "passed", "broken": "errored", "calls": "errored", "needs": "blocked",
    }  # fmt: skip
    assert said in told["broken"]["message"], told["broken"]["message"]
    assert said in told["calls"]["message"]
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


@pytest.mark.parametrize(
    ("steps", "outcome", "said"),
    [
        ([step("get", "status", parameters=[value("code", "path", 200)],
               outputs={"next": "$response.body#/next"}),
          asked("$steps.get.outputs.next")],
         "errored", "$steps.get.outputs.next has no value: the answer of step 'get'"),
        ([asked("$steps.later.outputs.x"), step("later", "text", outputs={"x": "$url"})],
         "errored", "step 'later' has not run"),
        ([asked("$inputs.day")], "errored", "nothing fills the input 'day'"),
        ([step("get", "status", "$response.body#/next == null", "$inputs.day == null",
               parameters=[value("code", "path", 200)])], "passed", ""),
    ],
)  # fmt: skip
def test_values_that_turn_out_to_be_missing(quay, steps, outcome, said):
    told = result(quay, *steps, inputs=INPUTS)
    assert (told["outcome"], said in told["message"]) == (outcome, True), told["message"]


def test_an_input_that_a_called_workflow_needs(quay):
    needs = {"type": "object", "required": ["berth"], "properties": {"berth": {}}}
    inner = {"workflowId": "inner", "inputs": needs, "steps": [asked("$inputs.berth")]}
    outer = {"workflowId": "outer", "steps": [step("f", "xml"), step("c", workflowId="inner")]}
    flows(quay, inner, outer)
    done = run(quay)
    assert set(done.outcomes.values()) == {"blocked"} and quay.server.seen == []
    said = done.results["flows/a.arazzo.yaml#outer"]["message"]
    assert "workflow 'inner' needs the input 'berth', and nothing fills it" in said
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
