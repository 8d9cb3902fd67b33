"""A service with a generated description, tested by workflows without a change to it."""

from __future__ import annotations

import asyncio
import socket
import threading

import pytest

SETTINGS = """
    [[suite]]
    name = "harbour"
    kind = "workflow"
    paths = ["harbour.arazzo.yaml"]
    [suite.http]
    base_url = "{url}"
    read = "5s"
    [param.url]
    type = "url"
    [param.password]
    secret = true
    [param.crew]
    default = "ebb"
    """
FLOWS = """
    arazzo: 1.0.1
    info: {title: The harbour, version: "1"}
    sourceDescriptions: [{name: harbour, url: "URL/openapi.json", type: openapi}]
    components:
      inputs:
        pair:
          type: object
          required: [crew, password]
          properties: {crew: {type: string}, password: {type: string}}
      parameters:
        token: {name: Authorization, in: header, value: "Bearer {$workflows.login.outputs.token}"}
    workflows:
      - workflowId: login
        inputs: {$ref: "#/components/inputs/pair"}
        steps:
          - stepId: wrong
            operationId: login_login_post
            x-contract: [type, headers, body]
            requestBody: {payload: {username: ebb, password: guess}}
            successCriteria: [{condition: $statusCode == 400}]
          - stepId: right
            operationId: login_login_post
            requestBody: {payload: {username: $inputs.crew, password: $inputs.password}}
            outputs: {token: $response.body#/access_token}
        outputs: {token: $steps.right.outputs.token}
      - workflowId: remembered
        dependsOn: [login]
        steps:
          - stepId: me
            operationId: me_me_get
            successCriteria: [{condition: $response.body#/crew == 'ebb'}]
      - workflowId: book
        dependsOn: [login]
        parameters: [{reference: $components.parameters.token}]
        steps:
          - stepId: first
            operationId: book_bookings_post
            requestBody: {payload: {boat: Grey Heron, length: 9.5}}
            successCriteria: [{condition: $statusCode == 201}]
            outputs: {number: $response.body#/number}
          - stepId: taken
            operationId: book_bookings_post
            x-contract: [body]
            requestBody:
              payload: '{"boat": "Grey Heron", "length": {$steps.first.outputs.number}}'
            successCriteria: [{condition: $statusCode == 409}]
          - stepId: short
            operationId: book_bookings_post
            requestBody: {payload: {boat: Little Tern, length: 0}}
            successCriteria:
              - condition: $statusCode == 422
              - context: $response.body
                condition: "$.detail[?@.loc[1] == 'length']"
                type: jsonpath
          - stepId: second
            operationId: book_bookings_post
            requestBody: {payload: {boat: Little Tern, length: 6}}
      - workflowId: pages
        dependsOn: [book]
        steps:
          - stepId: page
            operationId: bookings_bookings_get
            parameters:
              - {name: page, in: query, value: 1}
              - {name: tag, in: query, value: [a, b]}
            outputs: {next: $response.body#/next}
          - stepId: following
            operationId: bookings_bookings_get
            parameters: [{name: page, in: query, value: $steps.page.outputs.next}]
            successCriteria:
              - condition: $response.body#/next == null
              - condition: $response.body#/bookings/0/boat == 'Little Tern'
      - workflowId: stranger
        steps:
          - stepId: book
            operationId: book_bookings_post
            x-contract: []
            requestBody: {payload: {boat: Stranger, length: 6}}
            successCriteria: [{condition: $statusCode == 401}]
      - workflowId: charts
        steps:
          - stepId: send
            operationId: upload_charts_post
            requestBody:
              payload: {chart: {x-file: soundings.csv}, pages: [one, two], berth: A1}
            successCriteria:
              - condition: $response.body#/name == 'soundings.csv' && $response.body#/size == 6
              - condition: $response.body#/pages == 2 && $response.body#/berth == 'A1'
      - workflowId: tides
        steps:
          - stepId: listen
            operationId: tides_tides_get
            x-until: {context: $response.body, condition: "data: 12 m", type: regex}
            x-contract: []
            successCriteria: [{condition: $statusCode == 200}]
    """


@pytest.fixture(scope="module")
def harbour():
    # Imported here: the web framework takes long, and each process of the tests has this module.
    from hypercorn.asyncio import serve
    from hypercorn.config import Config

    from harbour_service import make_service

    listening = socket.create_server(("127.0.0.1", 0))
    config = Config()
    config.bind, config.accesslog, config.errorlog = [f"fd://{listening.fileno()}"], None, None
    loop, stop = asyncio.new_event_loop(), asyncio.Event()
    work = serve(make_service(), config, shutdown_trigger=stop.wait)
    thread = threading.Thread(target=loop.run_until_complete, args=[work], daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{listening.getsockname()[1]}"
    loop.call_soon_threadsafe(stop.set)
    thread.join()


def test_a_service_as_its_framework_describes_it(folder, harbour):
    from harbour_service import PASSWORD, TOKEN

    folder.file("wolfbane.toml", SETTINGS)
    folder.file("harbour.arazzo.yaml", FLOWS.replace("URL", harbour))
    folder.file("soundings.csv", "4.5,5\n")
    folder.file("password.txt", PASSWORD)
    given = ["--set", f"url={harbour}", "--set", "password=@password.txt"]
    done = folder.run(*given)
    assert done.results, done.err
    assert {name: told["message"] for name, told in done.results.items() if told["message"]} == {}
    assert set(done.outcomes.values()) == {"passed"} and len(done.outcomes) == 7, done.out
    for path in folder.path.rglob("*"):
        if path.is_file() and path.name not in ("password.txt",):
            text = path.read_text(errors="replace")
            assert PASSWORD not in text and TOKEN not in text, path
