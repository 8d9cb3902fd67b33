"""What workflows hand to each other, across attempts, workers and documents."""

from __future__ import annotations

import pytest

from quay_api import SETTINGS, flows, quay, run, server, step, value

__all__ = ["quay", "server"]  # fixtures

LOGIN = {
    "workflowId": "login",
    "steps": [step("s", "cookie", outputs={"berth": "$statusCode"})],
    "outputs": {"berth": "$steps.s.outputs.berth"},
}
TAKES = [
    value("id", "path", "{$workflows.login.outputs.berth}"),
    value("sent", "query", "{$workflows.login.outputs.berth}"),
]
TAKES_COOKIE = step("c", "cookie", "$response.body#/sent == 'berth=A1'")


def sent(quay):
    return [seen["path"] for seen in quay.server.seen]


@pytest.mark.parametrize("when", ["after", "at-once"])
@pytest.mark.parametrize("jobs", ["1", "3"])
def test_a_retried_test_has_what_its_dependencies_gave(quay, when, jobs):
    flows(
        quay,
        LOGIN,
        {
            "workflowId": "book",
            "dependsOn": ["login"],
            "steps": [step("e", "echo", parameters=TAKES), TAKES_COOKIE, step("o", "once")],
        },
    )
    done = run(quay, "--retries", "1", "--retry-when", when, "--jobs", jobs)
    assert done.outcomes == {
        "flows/a.arazzo.yaml#login": "passed",
        "flows/a.arazzo.yaml#book": "flaky",
    }, done.out
    assert sent(quay) == ["/cookie", *["/echo/200", "/cookie", "/once"] * 2]


@pytest.mark.parametrize("when", ["after", "at-once"])
@pytest.mark.parametrize("jobs", ["1", "3"])
def test_who_depends_on_a_retried_test_waits_for_its_next_attempt(quay, when, jobs):
    flaky = {**LOGIN, "steps": [step("o", "once"), *LOGIN["steps"]]}
    flows(
        quay,
        {
            "workflowId": "book",
            "dependsOn": ["login"],
            "steps": [step("e", "echo", parameters=TAKES), TAKES_COOKIE],
        },
        flaky,
        {"workflowId": "last", "dependsOn": ["book"], "steps": [TAKES_COOKIE]},
        {"workflowId": "never", "dependsOn": ["fails"], "steps": [step("s", "hang")]},
        {
            "workflowId": "fails",
            "steps": [step("s", "status", parameters=[value("code", "path", 500)])],
        },
    )
    done = run(quay, "--retries", "2", "--retry-when", when, "--jobs", jobs)
    told = {address.partition("#")[2]: r for address, r in done.results.items()}
    assert {name: (r["outcome"], r["attempt"]) for name, r in told.items()} == {
        "login": ("flaky", 2),
        "book": ("passed", 1),
        "last": ("passed", 1),
        "fails": ("failed", 3),
        "never": ("blocked", 1),
    }, done.out


@pytest.mark.parametrize("ends", ["timed out", "crashed"])
def test_after_a_crash_or_a_time_out(quay, ends):
    """The worker's process is lost, or only one test: what others gave is there all the same."""
    steps = {"timed out": step("s", "hang"), "crashed": step("s", "kill")}
    flows(
        quay,
        LOGIN,
        {"workflowId": "lost", "dependsOn": ["login"], "steps": [steps[ends]]},
        {"workflowId": "on", "dependsOn": ["lost"], "steps": [step("s", "xml")]},
        {
            "workflowId": "book",
            "dependsOn": ["login"],
            "steps": [step("e", "echo", parameters=TAKES), TAKES_COOKIE],
        },
    )
    quay.file("wolfbane.toml", SETTINGS.replace('read = "2s"', 'read = "60s"'))
    done = run(quay, *{"timed out": ["--timeout", "3s"], "crashed": []}[ends])
    told = {address.partition("#")[2]: r for address, r in done.results.items()}
    assert {name: r["outcome"] for name, r in told.items()} == {
        "login": "passed",
        "lost": ends,
        "on": "blocked",
        "book": "passed",
    }, done.out


def test_a_time_out_tells_the_step_and_its_request_and_keeps_the_archive(quay):
    flows(quay, {"workflowId": "w", "steps": [step("first", "text"), step("late", "hang")]})
    quay.file("wolfbane.toml", SETTINGS.replace('read = "2s"', 'read = "60s"\ncontract = []'))
    told = run(quay, "--timeout", "1s").results["flows/a.arazzo.yaml#w"]
    assert told["outcome"] == "timed out"
    message = (
        "the test ran longer than 1 s: step late: no complete response yet: GET http://127.0.0.1:"
    )
    assert message in told["message"]
    assert [part["outcome"] for part in told["parts"]] == ["passed", "timed out"]
    assert [kept["kind"] for kept in told["evidence"]] == ["har"]


def test_workflows_of_other_documents_have_inputs_outputs_and_cookies(quay):
    needs = {"type": "object", "required": ["boat"], "properties": {"boat": {}}}
    far = {
        "workflowId": "far",
        "inputs": needs,
        "steps": [
            step(
                "e",
                "echo",
                parameters=[value("id", "path", "$inputs.boat")],
                outputs={"x": "$response.body#/path"},
            ),
            step("c", "cookie"),
        ],
        "outputs": {"path": "$steps.e.outputs.x"},
    }
    flows(quay, far, name="b")
    sources = [
        {"name": "quay", "url": "../openapi.json", "type": "openapi"},
        {"name": "b", "url": "b.arazzo.yaml", "type": "arazzo"},
    ]
    given = value("p", "query", "$sourceDescriptions.b.far.outputs.path")
    flows(
        quay,
        {
            "workflowId": "w",
            "dependsOn": ["$sourceDescriptions.b.far"],
            "steps": [
                step("use", "echo", parameters=[value("id", "path", 1), given]),
                TAKES_COOKIE,
                step("call", workflowId="$sourceDescriptions.b.far"),
                step(
                    "again",
                    "echo",
                    parameters=[
                        value("id", "path", 2),
                        value("boat", "query", "$sourceDescriptions.b.far.inputs.boat"),
                    ],
                ),
            ],
        },
        sourceDescriptions=sources,
    )
    done = run(quay, "--name", "w")
    assert done.outcomes == {"flows/a.arazzo.yaml#w": "passed"}, done.out
    asked = [(seen["path"], seen["query"]) for seen in quay.server.seen]
    assert ("/echo/Grey%20Heron", {}) in asked
    assert ("/echo/1", {"p": ["/echo/Grey%20Heron"]}) in asked
    assert ("/echo/2", {"boat": ["Grey Heron"]}) in asked
    wrong = value("p", "query", "$sourceDescriptions.b.far.outputs.paht")
    flows(
        quay,
        {
            "workflowId": "w",
            "dependsOn": ["$sourceDescriptions.b.far"],
            "steps": [step("use", "echo", parameters=[value("id", "path", 1), wrong])],
        },
        sourceDescriptions=sources,
    )
    said = run(quay, "--name", "w").results["flows/a.arazzo.yaml#w"]["message"]
    assert "did you mean path?" in said
