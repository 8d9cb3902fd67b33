"""A server that does as it is told, and as it is not; documents for suites of workflows."""

from __future__ import annotations

import contextlib
import http.server
import json
import os
import signal
import threading
import time
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import psutil
import pytest
import yaml

HUGE = 40 << 20


class Server(http.server.ThreadingHTTPServer):
    daemon_threads = True
    seen: list[dict]
    documents: dict[str, str]
    busy = 0
    first = 0.0
    lock = threading.Lock()
    request_queue_size = 200


class Desk(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *told):
        pass

    def do_GET(self):
        url = urlsplit(self.path)
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0)).decode("latin-1")
        told = {
            "method": self.command,
            "path": url.path,
            "raw": self.path,
            "body": body,
            "query": parse_qs(url.query),
            "headers": dict(self.headers),
        }
        self.server.seen.append(told)
        special = getattr(self, "do_" + url.path.strip("/").partition("/")[0], None)
        if special:
            special(url.path)
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
        hits = self.server.documents[path.rpartition("/")[2]]
        self.answer(200, hits.encode(), "text/plain", ETag=f'"{hash(hits)}"')

    def do_text(self, path):
        self.answer(200, b"plain", "text/plain")

    def do_broken(self, path):
        self.answer(200, b'{"id": ')

    def do_drop(self, path):
        """Nothing at all: the connection is closed."""
        self.close_connection = True

    def do_loop(self, path):
        self.answer(302, {}, Location="/loop")

    def do_early(self, path):
        self.send_response(200)
        self.send_header("Content-Length", "100")
        self.end_headers()
        self.wfile.write(b"short")
        self.close_connection = True

    def do_once(self, path):
        """It fails the first time that it is asked."""
        self.server.busy += 1
        self.answer(500 if self.server.busy == 1 else 200, {"times": self.server.busy})

    def do_hop(self, path):
        self.answer(302, {}, Location="/text")

    def do_events(self, path):
        self.send_response(200)
        self.send_header("Content-Type", "text/event-stream")
        self.end_headers()
        with contextlib.suppress(OSError):
            for number in range(1, 4 if "short" in self.path else 10_000):
                self.wfile.write(f"data: tide {number}\n\n".encode())
                time.sleep(0.02)

    def do_slowly(self, path):
        """Its headers come one by one, and never end."""
        self.send_response(200)
        with contextlib.suppress(OSError):
            for number in range(100):
                self.send_header(f"X-{number}", "1")
                self.flush_headers()
                time.sleep(0.1)

    def do_kill(self, path):
        """It ends the process that asks."""
        port = self.client_address[1]
        for each in psutil.net_connections("tcp"):
            if each.laddr and each.laddr.port == port and each.pid not in (None, os.getpid()):
                os.kill(each.pid, signal.SIGKILL)

    def do_delay(self, path):
        time.sleep(0.05)
        self.answer(200, {})

    def do_late(self, path):
        """It takes so long that nobody could call it the noise of a busy machine."""
        time.sleep(1)
        self.answer(200, {})

    def do_stall(self, path):
        """It answers at once, but for what comes within two seconds of its second second."""
        with self.server.lock:
            self.server.first = self.server.first or time.monotonic()
        since = time.monotonic() - self.server.first
        if 1.0 <= since < 3.0:
            time.sleep(3.0 - since)
        self.answer(200, {})

    def do_away(self, path):
        self.answer(302, {}, Location="http://quay.example/berths")

    def do_hang(self, path):
        time.sleep(30)

    def do_drip(self, path):
        self.send_response(200)
        self.send_header("Content-Length", "5000")
        self.end_headers()
        for _ in range(5000):
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


def param(name, folder, **more):
    return {"name": name, "in": folder, "required": folder == "path", "schema": {}, **more}


DESCRIPTION = yaml.safe_load(Path(__file__).with_suffix(".yaml").read_text())
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
flow = { client_id = "w", client_secret = "{token}" } }
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
    server.seen, server.busy, server.first = [], 0, 0.0
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("openapi.json", json.dumps(DESCRIPTION))
    folder.file("token.txt", SECRET)
    folder.server = server
    folder.url = f"http://127.0.0.1:{server.server_port}"
    return folder


def step(name, operation=None, *criteria, **more):
    hits = {"stepId": name, **more}
    if operation:
        hits["operationId"] = operation
    if criteria:
        hits["successCriteria"] = [{"condition": c} if isinstance(c, str) else c for c in criteria]
    return hits


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


def results(quay, workflows):
    """One run of a document with all of these workflows, in order: what became of each."""
    flows(quay, *({"workflowId": f"w{n}", **each} for n, each in enumerate(workflows)))
    done = run(quay, "-j1")
    return [done.results[f"flows/a.arazzo.yaml#w{n}"] for n in range(len(workflows))]


def value(name, folder, given):
    return {"name": name, "in": folder, "value": given}
