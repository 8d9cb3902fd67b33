"""Arazzo workflows, run against a server that does as it is told, and as it is not."""

from __future__ import annotations

import http.server
import json
import threading
import time
from urllib.parse import parse_qs, urlsplit

import jsonschema
import pytest
import yaml

HUGE = 40 << 20


class Server(http.server.ThreadingHTTPServer):
    daemon_threads = True
    seen: list[dict]
    documents: dict[str, str]
    busy = 0


class Desk(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *told):
        pass

    def do_GET(self):
        place = urlsplit(self.path)
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0)).decode("latin-1")
        told = {
            "method": self.command, "path": place.path, "raw": self.path, "body": body,
            "query": parse_qs(place.query), "headers": dict(self.headers),
        }  # fmt: skip
        self.server.seen.append(told)
        special = getattr(self, "do_" + place.path.strip("/").partition("/")[0], None)
        if special:
            special(place.path)
        else:
            self.answer(200, told)

    do_POST = do_PUT = do_DELETE = do_GET

    def answer(self, status, value, kind="application/json", **headers):
        body = value if isinstance(value, bytes) else json.dumps(value).encode()
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        for name, text in headers.items():
            self.send_header(name.replace("_", "-"), text)
        self.end_headers()
        self.wfile.write(body)

    def do_status(self, path):
        self.answer(int(path.rpartition("/")[2]), {"path": path})

    def do_busy(self, path):
        self.server.busy += 1
        if self.server.busy < 3:
            self.answer(503, {"busy": True}, Retry_After="0")
        else:
            self.answer(200, {"busy": False})

    def do_cookie(self, path):
        self.answer(200, {"sent": self.headers.get("Cookie")}, Set_Cookie="berth=A1; Path=/")

    def do_xml(self, path):
        self.answer(200, b"<berths><berth id='A1' length='12'/></berths>", "application/xml")

    def do_berth(self, path):
        self.answer(200, {"id": "A1", "length": "twelve", "tags": [1]}, X_Count="many")

    def do_token(self, path):
        self.answer(200, {"access_token": "granted-42", "expires_in": 60})

    def do_docs(self, path):
        if self.headers.get("Authorization") != f"Bearer {SECRET}":
            self.answer(401, {})
            return
        found = self.server.documents[path.rpartition("/")[2]]
        self.answer(200, found.encode(), "text/plain", ETag=f'"{hash(found)}"')

    def do_text(self, path):
        self.answer(200, b"plain", "text/plain")

    def do_broken(self, path):
        self.answer(200, b'{"id": ')

    def do_loop(self, path):
        self.answer(302, {}, Location="/loop")

    def do_early(self, path):
        self.send_response(200)
        self.send_header("Content-Length", "100")
        self.end_headers()
        self.wfile.write(b"short")
        self.close_connection = True

    def do_hang(self, path):
        time.sleep(30)

    def do_drip(self, path):
        self.send_response(200)
        self.send_header("Content-Length", "1000")
        self.end_headers()
        for _ in range(1000):
            self.wfile.write(b" ")
            time.sleep(0.1)

    def do_huge(self, path):
        self.send_response(200)
        self.send_header("Content-Length", str(1 << 30))
        self.end_headers()
        for _ in range(1 << 10):
            self.wfile.write(b" " * (1 << 20))


@pytest.fixture(scope="module")
def server():
    server = Server(("127.0.0.1", 0), Desk)
    server.handle_error = lambda *told: None
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()


JSON = {"content": {"application/json": {}}}


def operation(name, responses=None, **more):
    described = {"description": "it", **JSON}
    return {"operationId": name, "responses": responses or {"200": described}, **more}


def param(name, place, **more):
    return {"name": name, "in": place, "required": place == "path", "schema": {}, **more}


BERTH = {
    "type": "object",
    "required": ["id", "length", "depth"],
    "properties": {"length": {"type": "number"}, "tags": {"items": {"type": "string"}}},
}
DESCRIPTION = {
    "openapi": "3.1.0",
    "info": {"title": "quay", "version": "1"},
    "servers": [{"url": "http://127.0.0.1:1"}],
    "paths": {
        "/echo/{id}": {
            "parameters": [param("id", "path")],
            "post": operation(
                "echo",
                tags=["talk"],
                parameters=[
                    param("list", "query"),
                    param("piped", "query", style="pipeDelimited", explode=False),
                    param("deep", "query", style="deepObject"),
                    param("X-List", "header"),
                ],
                requestBody=JSON,
            ),
        },
        "/matrix/{m}/{l}": {
            "get": operation(
                "matrix",
                parameters=[
                    param("m", "path", style="matrix", explode=True),
                    param("l", "path", style="label"),
                ],
            )
        },
        **{f"/{name}": {"get": operation(name)} for name in
           ("busy", "cookie", "broken", "loop", "early", "hang", "drip", "huge")},
        "/text": {"get": operation("text")},
        "/xml": {"get": operation("xml", {"200": {"description": "x"}})},
        "/status/{code}": {
            "get": operation("status", {"200": {"description": "x"}, "4XX": {"description": "y"}},
                             parameters=[param("code", "path")])
        },
        "/berth": {
            "get": operation("berth", {"200": {
                "description": "it",
                "headers": {"X-Count": {"schema": {"type": "integer"}},
                            "X-Page": {"required": True, "schema": {"type": "integer"}}},
                "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Berth"}}},
            }})
        },
        "/key": {"get": operation("key", security=[{"key": []}])},
        "/basic": {"get": operation("basic", security=[{"pair": []}])},
        "/granted": {"get": operation("granted", security=[{"flow": ["book"]}])},
    },
    "components": {
        "schemas": {"Berth": BERTH},
        "securitySchemes": {
            "key": {"type": "apiKey", "in": "query", "name": "api_key"},
            "pair": {"type": "http", "scheme": "basic"},
            "flow": {"type": "oauth2", "flows": {"clientCredentials": {
                "tokenUrl": "/token", "scopes": {"book": "to book"}}}},
        },
    },
}  # fmt: skip
SETTINGS = """
[[suite]]
name = "api"
kind = "workflow"
paths = ["flows"]
[suite.http]
base_url = "{url}"
read = "2s"
redirects = 3
security = { key = "{token}", pair = { user = "quay", password = "{token}" }, \
flow = { base_url = "{url}", client_id = "w", client_secret = "{token}" } }
[param.url]
type = "url"
[param.boat]
default = "Grey Heron"
[param.token]
secret = true
"""
SECRET = "heron-at-low-tide"


@pytest.fixture
def quay(folder, server):
    server.seen, server.busy = [], 0
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("openapi.json", json.dumps(DESCRIPTION))
    folder.file("token.txt", SECRET)
    folder.server = server
    folder.url = f"http://127.0.0.1:{server.server_port}"
    return folder


def step(name, operation=None, *criteria, **more):
    found = {"stepId": name, **more}
    if operation:
        found["operationId"] = operation
    if criteria:
        found["successCriteria"] = [{"condition": c} if isinstance(c, str) else c for c in criteria]
    return found


def flows(quay, *workflows, name="a", **more):
    document = {
        "arazzo": "1.0.1",
        "info": {"title": "t", "version": "1"},
        "sourceDescriptions": [{"name": "quay", "url": "../openapi.json", "type": "openapi"}],
        "workflows": list(workflows),
        **more,
    }
    quay.file(f"flows/{name}.arazzo.yaml", yaml.safe_dump(document, sort_keys=False))


def run(quay, *arguments):
    return quay.run("--set", f"url={quay.url}", "--set", "token=@token.txt", *arguments)


def result(quay, *steps, **more):
    flows(quay, {"workflowId": "w", "steps": list(steps), **more})
    done = run(quay)
    assert done.results, done.err
    return done.results["flows/a.arazzo.yaml#w"]


def value(name, place, given):
    return {"name": name, "in": place, "value": given}


def test_parameters_are_written_as_their_styles_say(quay):
    deep = {"berth": "A1", "nights": 2}
    echo = step(
        "s", "echo",
        parameters=[
            value("id", "path", "a/b c"), value("list", "query", ["x", "y&z"]),
            value("piped", "query", [1, 2]), value("deep", "query", deep),
            value("X-List", "header", ["p", "q"]), value("free", "query", True),
            value("crew", "cookie", "ebb"),
        ],
    )  # fmt: skip
    many = step("m", "matrix", parameters=[value("m", "path", ["a", "b"]), value("l", "path", 3)])
    assert result(quay, echo, many)["outcome"] == "passed"
    first, second = quay.server.seen
    assert first["path"] == "/echo/a%2Fb%20c"
    assert "list=x&list=y%26z&piped=1%7C2&deep%5Bberth%5D=A1&deep%5Bnights%5D=2" in first["raw"]
    assert first["query"]["free"] == ["true"]
    assert (first["headers"]["X-List"], first["headers"]["Cookie"]) == ("p,q", "crew=ebb")
    assert second["path"] == "/matrix/;m=a;m=b/.3"


@pytest.mark.parametrize(
    ("body", "kind", "sent"),
    [
        ({"payload": {"boat": "$inputs.boat", "n": [1, "{$inputs.boat}!"]}}, "application/json",
         '{"boat": "Grey Heron", "n": [1, "Grey Heron!"]}'),
        ({"payload": '{"boat": "{$inputs.boat}"}'}, "application/json", '{"boat": "Grey Heron"}'),
        ({"payload": {"a": {"b": 1}}, "replacements": [{"target": "/a/b", "value": "$method"}]},
         "application/json", '{"a": {"b": null}}'),
        ({"contentType": "application/x-www-form-urlencoded", "payload": {"a": [1, "b c"]}},
         "application/x-www-form-urlencoded", "a=1&a=b+c"),
        ({"contentType": "multipart/form-data", "payload": {"a": "tide", "b": {"c": 1}}},
         "multipart/form-data; boundary", 'name="a"\r\nContent-Type: text/plain\r\n\r\ntide'),
        ({"contentType": "text/plain", "payload": "to {$inputs.boat}"}, "text/plain",
         "to Grey Heron"),
        ({"contentType": "application/xml", "payload": "<a><b n='1'/></a>",
          "replacements": [{"target": "/a/b/@n", "value": 2}]}, "application/xml",
         '<a><b n="2"/></a>'),
    ],
)  # fmt: skip
def test_bodies(quay, body, kind, sent):
    inputs = {"type": "object", "properties": {"boat": {"type": "string"}}}
    echo = step("s", "echo", parameters=[value("id", "path", 1)], requestBody=body)
    assert result(quay, echo, inputs=inputs)["outcome"] == "passed"
    assert kind in quay.server.seen[0]["headers"]["Content-Type"]
    assert sent in quay.server.seen[0]["body"]


@pytest.mark.parametrize(
    ("criterion", "holds"),
    [
        ("$statusCode == 200 && $response.body#/path == '/ECHO/1'", True),
        ("$response.body.query.q[0] == 'x' && !($statusCode >= 300)", True),
        ("$request.query.q == 'x' && $request.path.id == 1 && $method == 'POST'", True),
        ("$url == 'http://elsewhere'", False),
        ("$request.header.X-Boat == 'ebb' || $response.header.Content-Type == 'none'", True),
        ("$response.body#/nothing == null", True),
        ({"context": "$response.body#/path", "condition": "^/echo/\\d$", "type": "regex"}, True),
        ({"context": "$response.body", "condition": "$.query.q[?@ == 'y']", "type": "jsonpath"},
         False),
        ({"context": "$response.body", "condition": "$..q",
          "type": {"type": "jsonpath", "version": "draft-goessner-dispatch-jsonpath-00"}}, True),
    ],
)  # fmt: skip
def test_criteria_say_what_they_found(quay, criterion, holds):
    given = [value("id", "path", 1), value("q", "query", "x"), value("X-Boat", "header", "ebb")]
    told = result(quay, step("s", "echo", criterion, parameters=given))
    assert told["outcome"] == ("passed" if holds else "failed"), told["message"]
    if not holds:
        assert "does not hold" in told["message"] and " is " in told["message"]
        assert "to repeat it: curl -i -X POST" in told["message"]


def test_xml_is_read_by_xpath(quay):
    path = {"context": "$response.body", "condition": "//berth[@length > 10]", "type": "xpath"}
    assert result(quay, step("s", "xml", path))["outcome"] == "passed"
    none = {**path, "condition": "count(//berth) = 2"}
    assert result(quay, step("s", "xml", none))["outcome"] == "failed"


def test_outputs_lead_from_step_to_step_and_out(quay):
    inner = {
        "workflowId": "inner",
        "inputs": {"type": "object", "properties": {"day": {"default": "monday"}}},
        "steps": [step("s", "echo", parameters=[value("id", "path", "$inputs.day")],
                       outputs={"path": "$response.body#/path", "whole": "$response.body"})],
        "outputs": {"path": "$steps.s.outputs.path", "deep": "$steps.s.outputs.whole#/path"},
    }  # fmt: skip
    flows(
        quay, inner,
        {"workflowId": "outer", "steps": [
            step("call", None, "$outputs.path == '/echo/friday'", workflowId="inner",
                 parameters=[{"name": "day", "value": "friday"}]),
            step("use", "echo", "$response.body#/query/p/0 == '/echo/friday'",
                 parameters=[value("id", "path", 1),
                             value("p", "query", "$steps.call.outputs.deep")]),
        ]},
    )  # fmt: skip
    done = run(quay)
    assert set(done.outcomes.values()) == {"passed"}, done.out


def test_actions_retry_go_on_and_end(quay):
    again = {"name": "again", "type": "retry", "retryLimit": 3, "retryAfter": 60}
    flows(
        quay,
        {"workflowId": "w", "steps": [
            step("busy", "busy", "$statusCode == 200",
                 onFailure=[{"reference": "$components.failureActions.again"}]),
            step("lost", "status", "$statusCode == 200", parameters=[value("code", "path", 404)],
                 onFailure=[{"name": "skip", "type": "goto", "stepId": "last",
                             "criteria": [{"condition": "$statusCode == 404"}]}]),
            step("never", "status", parameters=[value("code", "path", 500)]),
            step("last", "cookie", onSuccess=[{"name": "done", "type": "end"}]),
            step("nor", "hang"),
        ]},
        components={"failureActions": {"again": again}},
    )  # fmt: skip
    told = run(quay).results["flows/a.arazzo.yaml#w"]
    assert told["outcome"] == "passed", told["message"]
    assert [part["name"].split()[0] for part in told["parts"]] == [
        "busy:", "busy:", "busy:", "lost:", "last:"
    ]  # fmt: skip
    assert "retried (again)" in told["parts"][0]["message"]
    assert "handled (skip)" in told["parts"][3]["message"]


def test_what_others_depend_on_runs_first_and_is_said(quay):
    flows(
        quay,
        {"workflowId": "late", "dependsOn": ["early"],
         "steps": [step("s", "echo",
                        parameters=[value("id", "path", "$workflows.early.outputs.x")])]},
        {"workflowId": "early", "steps": [step("s", "text", outputs={"x": "$statusCode"})],
         "outputs": {"x": "$steps.s.outputs.x"}},
        {"workflowId": "stuck", "dependsOn": ["fails"], "steps": [step("s", "cookie")]},
        {"workflowId": "fails",
         "steps": [step("s", "status", parameters=[value("code", "path", 500)])]},
    )  # fmt: skip
    done = run(quay, "--name", "late,stuck", "--pick", "name:late or name:stuck")
    assert "pulled in" in done.out and "#early, needed by" in done.out
    ended = {address.partition("#")[2]: outcome for address, outcome in done.outcomes.items()}
    assert ended == {"early": "failed", "late": "blocked", "fails": "failed", "stuck": "blocked"}
    assert quay.server.seen[0]["path"] in ("/text", "/status/500")


def test_answers_are_held_against_their_description(quay):
    told = result(quay, step("s", "berth", "$statusCode == 200"))
    assert told["outcome"] == "failed"
    for words in (
        "headers at X-Count", "headers at X-Page: expected it to be there",
        "body at /: expected a field 'depth'", "body at /length: expected type number",
        "body at /tags/0: expected type string, found 1",
    ):  # fmt: skip
        assert words in told["message"], told["message"]
    text = result(quay, step("s", "text", "$statusCode == 200"))
    assert "type: expected application/json, found text/plain" in text["message"]
    odd = result(quay, step("s", "status", "$statusCode == 503",
                            parameters=[value("code", "path", 503)]))  # fmt: skip
    assert "status: expected one of 200, 4XX, found 503" in odd["message"]
    quay.file("wolfbane.toml", SETTINGS.replace("redirects = 3", "redirects = 3\ncontract = []"))
    assert result(quay, step("s", "berth", "$statusCode == 200"))["outcome"] == "passed"


@pytest.mark.parametrize(
    ("name", "said", "outcome"),
    [
        ("hang", "no answer within 2 s", "errored"),
        ("drip", "the body was not there within 2 s", "errored"),
        ("huge", "the body is longer than", "errored"),
        ("early", "the server broke off", "errored"),
        ("loop", "redirected more than 3 times", "errored"),
        ("broken", "contract, body: expected JSON", "failed"),
    ],
)
def test_servers_that_misbehave_cost_their_step(quay, name, said, outcome):
    told = result(quay, step("s", name), step("never", "text"))
    assert (told["outcome"], said in told["message"]) == (outcome, True), told["message"]
    assert len(told["parts"]) == 1


def test_a_server_that_is_down(quay):
    flows(quay, {"workflowId": "w", "steps": [step("s", "text")]})
    done = quay.run("--set", "url=http://127.0.0.1:1", "--set", "token=@token.txt")
    assert "connection refused" in done.results["flows/a.arazzo.yaml#w"]["message"]


def test_security_and_cookies_and_archives(quay):
    told = result(
        quay, step("k", "key"), step("b", "basic"), step("g", "granted"),
        step("c1", "cookie"), step("c2", "cookie", "$response.body#/sent == 'berth=A1'"),
    )  # fmt: skip
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
    "properties": {"log": {
        "required": ["version", "creator", "entries"],
        "properties": {
            "version": {"const": "1.2"},
            "creator": {"required": ["name", "version"]},
            "entries": {"minItems": 1, "items": {
                "required": ["startedDateTime", "time", "request", "response", "cache", "timings"],
                "properties": {
                    "startedDateTime": {"pattern": r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d.*[+Z]"},
                    "time": {"type": "number", "minimum": 0},
                    "timings": {"required": ["send", "wait", "receive"]},
                    "request": {
                        "required": ["method", "url", "queryString", *_MESSAGE],
                        "properties": {
                            "url": {"pattern": "^https?://"}, "headers": _HEADERS,
                            "queryString": _HEADERS, "bodySize": {"type": "integer"},
                            "postData": {"required": ["mimeType", "text"]},
                        },
                    },
                    "response": {
                        "required": ["status", "statusText", "content", "redirectURL", *_MESSAGE],
                        "properties": {
                            "status": {"type": "integer"}, "headers": _HEADERS,
                            "content": {"required": ["size", "mimeType"],
                                        "properties": {"encoding": {"const": "base64"}}},
                        },
                    },
                },
            }},
        },
    }},
}  # fmt: skip
"""What the specification of HTTP archives (HAR 1.2) asks for."""


def test_rows_are_tests_of_their_own(quay):
    quay.file("flows/ships.csv", "name,length\nGrey Heron,9.5\nLittle Tern,6\nLittle Tern,7\n")
    inputs = {"type": "object", "properties": {"length": {"type": "number"}}}
    sent = [value("id", "path", 1), value("l", "query", "$inputs.length")]
    flows(
        quay,
        {"workflowId": "w", "x-rows": "ships.csv", "inputs": inputs, "x-tags": ["ships"],
         "steps": [step("s", "echo", "$inputs.length < 9", parameters=sent)]},
    )  # fmt: skip
    done = run(quay, "--tag", "ships")
    ended = {address.partition("#")[2]: outcome for address, outcome in done.outcomes.items()}
    assert ended == {
        "w / Grey Heron": "failed", "w / Little Tern": "passed", "w / Little Tern (2)": "passed"
    }  # fmt: skip
    assert quay.server.seen[1]["query"] == {"l": ["6"]}
    listed = json.loads(quay.call("list", "--tag", "talk", "--as", "json").out)
    assert listed[0]["name"] == "w / Grey Heron"


def test_inputs_that_nothing_fills_are_told_before_any_request(quay):
    inputs = {"type": "object", "required": ["berth", "boat"], "properties": {
        "berth": {"type": "string"}, "boat": {"type": "string"}}}  # fmt: skip
    told = result(quay, step("s", "text"), inputs=inputs)
    assert (told["outcome"], quay.server.seen) == ("blocked", [])
    assert "nothing fills the input 'berth'" in told["message"]


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("operationId: text", "operationId: txt"), "no operation 'txt'; did you mean text?"),
        (("stepId: s", "stepID: s"), "unknown field 'stepID'; did you mean stepId?"),
        (("$statusCode == 200", "$statusCode = 200"), "'=' is not expected"),
        (("$statusCode == 200", "$statuscode == 200"), "did you mean statusCode?"),
        (("dependsOn: []", "dependsOn: [w]"), "workflow 'w' depends on itself"),
        (("url: ../openapi.json", "url: ../openapy.json"), "openapy.json"),
        (("workflows:", "workflows: ["), "not valid YAML"),
    ],
)
def test_documents_that_are_wrong(quay, change, said):
    flows(quay, {"workflowId": "w", "dependsOn": [], "steps": [
        step("s", "text", "$statusCode == 200")]})  # fmt: skip
    path = quay.path / "flows/a.arazzo.yaml"
    assert change[0] in path.read_text()
    path.write_text(path.read_text().replace(*change))
    done = run(quay)
    told = done.results["flows/a.arazzo.yaml"]
    assert (done.code, told["outcome"]) == (1, "errored")
    assert said in told["message"] and "a.arazzo.yaml" in told["message"], told["message"]


def test_coverage_is_said(quay):
    flows(quay, {"workflowId": "w", "steps": [step("s", "xml"), step("t", "cookie")]})
    out = run(quay).out
    assert "openapi.json: 2 of 17 operations, statuses 200; not called: echo, matrix" in out


def test_documents_by_url_are_kept_and_looked_at_again(quay):
    describe = json.dumps(DESCRIPTION)
    flows(quay, {"workflowId": "w", "steps": [step("s", "cookie")]})
    own = quay.path / "flows/a.arazzo.yaml"
    quay.server.documents = {"openapi.json": describe, "far.arazzo.yaml": own.read_text().replace(
        "../openapi.json", f"{quay.url}/docs/openapi.json")}  # fmt: skip
    own.unlink()
    text = SETTINGS.replace('paths = ["flows"]', f'paths = ["{quay.url}/docs/far.arazzo.yaml"]')
    quay.file("wolfbane.toml", text.replace("read =", 'documents_token = "{token}"\nread ='))
    place = f".wolfbane/copies/127.0.0.1_{quay.server.server_port}/docs"
    nothing = run(quay, "--offline")
    assert nothing.code == 2 and "there is no copy here (--offline)" in nothing.err
    first = run(quay)
    assert first.outcomes == {f"{place}/far.arazzo.yaml#w": "passed"}, first.out
    assert "sha256" in first.out and "out of date" not in first.out
    assert len(list(quay.path.glob(".wolfbane/runs/*/documents/*"))) == 2
    quay.server.documents["openapi.json"] = describe.replace('"1"', '"2"')
    assert "docs/openapi.json: the copy is out of date" in run(quay).out
    assert "out of date" not in run(quay, "--offline").out
    assert "out of date" not in run(quay, "--refresh").out
    assert '"2"' in (quay.path / place / "openapi.json").read_text()
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
                        {"name": "l", "in": "query", "type": "array", "items": {"type": "string"},
                         "collectionFormat": "pipes"},
                        {"name": "wish", "in": "body", "schema": {"$ref": "#/definitions/Wish"}},
                    ],
                    "responses": {"200": {"description": "x", "schema": {
                        "$ref": "#/definitions/Told"}}},
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
}  # fmt: skip
PARTS = {
    "echo": {"post": {
        "operationId": "send",
        "parameters": [param("id", "path"), {**param("l", "query"), "style": "pipeDelimited",
                                            "explode": False}],
        "requestBody": JSON,
        "responses": {"200": {"description": "x", "content": {"application/json": {
            "schema": {"$ref": "#/components/schemas/Told"}}}}},
    }},
    "Told": {"type": "object", "required": ["raw", "berth"],
             "properties": {"raw": {"type": "string", "nullable": True}}},
}  # fmt: skip


@pytest.mark.parametrize("version", OLDER)
def test_older_descriptions_and_other_files(quay, version):
    quay.file("openapi.json", json.dumps(OLDER[version]))
    quay.file("parts.json", json.dumps(PARTS))
    given = [value("id", "path", 1), value("l", "query", ["a", "b"])]
    told = result(quay, step("s", "send", parameters=given, requestBody={"payload": {}}))
    assert "body at /: expected a field 'berth'" in told["message"], told["message"]
    assert told["message"].count("contract") == 1
    assert quay.server.seen[0]["raw"] == "/echo/1?l=a%7Cb"


def test_workflows_of_another_document(quay):
    flows(quay, {"workflowId": "far", "steps": [step("s", "text", outputs={"x": "$statusCode"})],
                 "outputs": {"x": "$steps.s.outputs.x"}}, name="b")  # fmt: skip
    quay.file("wolfbane.toml", SETTINGS.replace("read =", "contract = []\nread =").replace(
        'paths = ["flows"]', 'paths = ["flows/a.arazzo.yaml"]'))  # fmt: skip
    sources = [{"name": "quay", "url": "../openapi.json", "type": "openapi"},
               {"name": "b", "url": "b.arazzo.yaml", "type": "arazzo"}]  # fmt: skip
    flows(
        quay,
        {"workflowId": "w", "dependsOn": ["$sourceDescriptions.b.far"], "steps": [
            step("call", None, "$outputs.x == 200", workflowId="$sourceDescriptions.b.far"),
            step("path", None, "$statusCode == 200", operationPath=
                 "{$sourceDescriptions.quay.url}#/paths/~1text/get"),
            step("id", "$sourceDescriptions.quay.cookie"),
        ]},
        sourceDescriptions=sources,
    )  # fmt: skip
    done = run(quay)
    assert done.outcomes == {"flows/a.arazzo.yaml#w": "passed"}, done.out
    assert [seen["path"] for seen in quay.server.seen] == ["/text", "/text", "/text", "/cookie"]


def test_components_and_what_a_workflow_says_for_all_of_its_steps(quay):
    flows(
        quay,
        {"workflowId": "w",
         "inputs": {"$ref": "#/components/inputs/day"},
         "parameters": [{"reference": "$components.parameters.page", "value": 7},
                        {"reference": "$components.parameters.berth"}],
         "successActions": [{"reference": "$components.successActions.leave"}],
         "failureActions": [{"name": "wake", "type": "retry", "workflowId": "wake"}],
         "steps": [
             step("s", "echo", "$request.query.page == 7", parameters=[
                 value("p", "query", "$components.parameters.page.value"),
                 value("day", "query", "$inputs.day")]),
             step("busy", "busy", "$statusCode == 200", parameters=[], onFailure=[
                 {"name": "again", "type": "retry", "retryLimit": 5, "stepId": "s"}]),
             step("odd", "status", "$statusCode == 200", parameters=[value("code", "path", 404)]),
             step("never", "hang"),
         ]},
        {"workflowId": "wake", "steps": [step("up", "cookie")]},
        {"workflowId": "out", "steps": [step("bye", "cookie")],
         "outputs": {"code": "$steps.bye.outputs.none"}},
        components={
            "inputs": {"day": {"type": "object", "properties": {"day": {"default": "monday"}}}},
            "parameters": {"page": {"name": "page", "in": "query", "value": 3},
                           "berth": {"name": "id", "in": "path", "value": "A1"}},
            "successActions": {"leave": {
                "name": "leave", "type": "goto", "workflowId": "out",
                "criteria": [{"condition": "$url == 'never'"}]}},
        },
    )  # fmt: skip
    told = run(quay, "--name", "w", "--drop", "name:wake or name:out").results
    told = told["flows/a.arazzo.yaml#w"]
    first = quay.server.seen[0]
    assert first["path"] == "/echo/A1"
    assert first["query"] == {"page": ["7"], "p": ["3"], "day": ["monday"]}
    asked = [seen["path"] for seen in quay.server.seen]
    assert asked == ["/echo/A1", "/busy", "/echo/A1", "/busy", "/echo/A1", "/busy",
                     "/status/404", "/cookie", "/status/404"]  # fmt: skip
    assert told["outcome"] == "failed" and "step odd" in told["message"]


def test_a_success_action_leads_to_another_workflow(quay):
    flows(
        quay,
        {"workflowId": "w", "steps": [
            step("s", "cookie", onSuccess=[{"name": "go", "type": "goto", "workflowId": "out"}]),
            step("never", "hang")]},
        {"workflowId": "out", "steps": [step("bye", "xml")]},
    )  # fmt: skip
    told = run(quay).results["flows/a.arazzo.yaml#w"]
    assert told["outcome"] == "passed" and len(told["parts"]) == 2
