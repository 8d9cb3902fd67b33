"""The version that an environment has: recorded, compared with the suites, and chosen by."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from xml.etree import ElementTree

import pytest

from conftest import Folder, present
from wolfbane.demo import copy_harbour

pytestmark = pytest.mark.skipif(not present("git"), reason="git is not installed")


@pytest.fixture
def system():
    """A system that says its version in every way; ``answer`` is status, headers and body."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self):
            status, headers, body = server.answer
            self.send_response(status)
            for name, value in {**headers, "Content-Length": str(len(body))}.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(body.encode())

        def log_message(self, *arguments):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.answer = 200, {"X-Version": "harbour/1.0-a"}, '{"build": [{"version": "1.0"}]}'
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server
    server.shutdown()


@pytest.fixture
def quay(folder, system):
    """Two versions with tags, and an environment whose version source a test writes."""
    folder.url = f"http://127.0.0.1:{system.server_port}/"
    folder.git("init", "--quiet")
    folder.file(".gitignore", ".wolfbane\n*.json\n")
    for tag, count in (("v1.0", 1), ("v1.1", 2)):
        tests = "".join(f"def test_{number}(): pass\n" for number in range(count))
        folder.file("test_quay.py", tests)
        folder.git("add", "--all")
        folder.git("commit", "--quiet", "--message", tag)
        folder.git("tag", tag)
    return folder


def pointed(quay, source):
    quay.file("wolfbane.toml", f"[env.staging]\nversion = {source.replace('URL', quay.url)}\n")


JSON = '{ url = "URL", pointer = "/build/0/version", revision = "v{version}" }'


@pytest.mark.parametrize(
    "source",
    [
        JSON,
        '{ url = "URL", header = "x-version", pattern = "/([0-9.]+)", revision = "v{version}" }',
        "{ url = \"URL\", pattern = '[0-9][.][0-9]', revision = 'v{version}' }",
        '{ command = ["printf", "built\\nas v1.0\\n"], pattern = "v1.." }',
    ],
)
def test_the_suites_of_what_is_deployed(quay, source):
    pointed(quay, source)
    done = quay.run(
        "--env",
        "staging",
        "--at",
        "deployed",
        "--report",
        "xunit=x.xml",
        "--report",
        "ctrf=c.json",
        "--report",
        "html=p.html",
    )
    result = {
        each.get("name"): each.get("value")
        for each in ElementTree.parse(quay.path / "x.xml").iter("property")
    }
    assert result["revision"] == "v1.0"
    assert "1.0" in result["version"]
    system = json.loads((quay.path / "c.json").read_text())["results"]["environment"]
    assert system["commit"] == result["commit"]
    assert (system["appVersion"], system["testEnvironment"]) == (result["version"], "staging")
    head = (quay.path / "p.html").read_text().partition("</header>")[0]
    assert f"version {result['version']}" in head
    assert "suites at v1.0" in head
    assert list(done.outcomes.values()) == ["passed"]
    assert "at v1.0 (commit" in done.text
    assert "warning" not in done.out
    (target,) = json.loads((quay.path / "report.json").read_text())["started"]["targets"]
    assert target["revision"] == "v1.0"
    assert "1.0" in target["version"]
    newer = quay.run("--env", "staging")
    assert (newer.code, len(newer.results)) == (0, 2)
    assert "the suites are 1 commit ahead" in newer.text
    assert "1.0" in quay.call("history").out


@pytest.mark.parametrize(
    ("answer", "arguments", "code", "message"),
    [
        ((503, {}, ""), ["--at", "deployed"], 4, "is unknown: GET http://127.0.0.1"),
        ((200, {}, "no JSON"), ["--at", "deployed"], 4, "the response is not JSON"),
        ((200, {}, "{}"), ["--at", "deployed"], 4, "no value at /build/0/version"),
        (
            (200, {}, '{"build": [{"version": "9"}]}'),
            ["--at", "deployed"],
            2,
            "has version 9, revision v9: git cannot find this revision",
        ),
        ((503, {}, ""), ["--version-must-match"], 2, "is unknown: GET http://127.0.0.1"),
        (
            (200, {}, '{"build": [{"version": "1.0"}]}'),
            ["--version-must-match"],
            2,
            "the suites are 1 commit ahead; use --at deployed to take the suites of that version",
        ),
        ((200, {}, '{"build": [{"version": "9"}]}'), [], 0, "git has no revision v9"),
        ((503, {}, ""), [], 0, "is unknown: GET http://127.0.0.1"),
    ],
)
def test_a_version_that_does_not_fit(quay, system, answer, arguments, code, message):
    pointed(quay, JSON)
    system.answer = answer
    done = quay.run("--env", "staging", *arguments)
    assert done.code == code
    assert message in " ".join(f"{done.out} {done.err}".split())
    assert bool(done.results) == (code == 0)


@pytest.mark.parametrize(
    ("source", "message"),
    [
        ("{}", "it needs either 'url' or 'command'"),
        ('{ url = "URL", command = ["true"] }', "it needs either 'url' or 'command'"),
        ('{ url = "URL", pinter = "/a" }', "unknown key 'pinter'; did you mean pointer?"),
        ('{ url = "URL", pointer = "a" }', "a JSON pointer starts with '/'"),
        ('{ url = "URL", pattern = "(" }', "'pattern' is not a regular expression"),
        ('{ url = "URL", revision = "v" }', "'revision' must contain {version}"),
        ('{ url = "{base}" }', "contains {base}, which is not a parameter"),
    ],
)
def test_wrong_version_sources_are_errors_of_the_settings(quay, source, message):
    pointed(quay, source)
    done = quay.run("--env", "staging")
    assert (done.code, message in done.err) == (2, True), done.err


def free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


def serve(harbour, name):
    """Start the harbour's booking service; its process and its address, once it answers."""
    port = free_port()
    service = subprocess.Popen(
        [sys.executable, "booking/service.py", name, "--port", str(port)],
        cwd=harbour.path,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    end = time.monotonic() + 30
    while time.monotonic() < end and service.poll() is None:
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                break
    return service, f"http://127.0.0.1:{port}"


def test_the_demos_staging_has_the_older_suite(tmp_path):
    harbour = Folder(copy_harbour(tmp_path / "harbour"))
    old, staging = serve(harbour, "staging")
    new, production = serve(harbour, "local")
    try:
        settings = harbour.path / "wolfbane.toml"
        text = settings.read_text().replace("http://127.0.0.1:8731", staging)
        text += f'\n[env.production]\nextends = "staging"\nbase_url = "{production}"\n'
        settings.write_text(text)
        workflows = ("--suite", "workflows", "--name", "cancel,serviceIsUp")
        deployed = harbour.run("--env", "staging", "--at", "deployed", *workflows)
        assert deployed.code == 0
        assert list(deployed.results) == ["workflows/bookings.arazzo.yaml#serviceIsUp"]
        newer = harbour.run("--env", "staging", *workflows)
        assert newer.code == 1
        assert "1 commit ahead" in newer.text
        both = harbour.call(
            "run",
            "--env",
            "staging,production",
            "--at",
            "deployed",
            *workflows,
            "--report",
            "json=both.json",
        )
        assert both.code == 0, both.out + both.err
        result = {
            name: json.loads((harbour.path / f"both-{name}.json").read_text())
            for name in ("staging", "production")
        }
        assert [len(each["results"]) for each in result.values()] == [1, 2]
        versions = [each["started"]["targets"][0]["version"] for each in result.values()]
        assert versions == ["1.3.0", "1.4.0"]
        listed = harbour.call("list", "--env", "staging,production", "--at", "deployed")
        assert "give only one environment; these were given: staging, production" in listed.err
        own = harbour.call("run", "--at", "deployed")
        assert (
            "environment 'local' does not define 'version'; choose one of these with --env: staging"
            in own.err
        )
    finally:
        for process in (old, new):
            process.terminate()
            process.wait()
