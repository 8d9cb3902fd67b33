"""How requests travel: over HTTP/2 and TLS, with a certificate of their own, through a proxy."""

from __future__ import annotations

import asyncio
import http.server
import json
import os
import ssl
import threading

import pytest
import trustme
from hypercorn.asyncio import serve
from hypercorn.config import Config

DESCRIPTION = {
    "openapi": "3.1.0",
    "info": {"title": "quay", "version": "1"},
    "paths": {
        "/look": {
            "get": {
                "operationId": "look",
                "responses": {"200": {"description": "it", "content": {"application/json": {}}}},
            }
        }
    },
}
FLOWS = """
arazzo: 1.0.1
info: {title: t, version: "1"}
sourceDescriptions: [{name: quay, url: openapi.json}]
workflows:
  - workflowId: w
    steps:
      - {stepId: look, operationId: look, successCriteria: [{condition: $statusCode == 200}]}
"""


async def _desk(scope, receive, send):
    """An ASGI application that says which HTTP it was asked in."""
    body = json.dumps({"http": scope["http_version"]}).encode()
    headers = [(b"content-type", b"application/json"), (b"content-length", b"%d" % len(body))]
    await send({"type": "http.response.start", "status": 200, "headers": headers})
    await send({"type": "http.response.body", "body": body})


@pytest.fixture(scope="module")
def authority():
    return trustme.CA()


@pytest.fixture(scope="module")
def secured(authority, tmp_path_factory):
    """The port of a server that wants a certificate of this authority from whoever asks."""
    folder = tmp_path_factory.mktemp("tls")
    certificate = authority.issue_cert("localhost")
    authority.cert_pem.write_to_path(folder / "ca.pem")
    certificate.private_key_pem.write_to_path(folder / "key.pem")
    certificate.cert_chain_pems[0].write_to_path(folder / "cert.pem")
    config = Config()
    config.bind = ["127.0.0.1:0"]
    config.certfile, config.keyfile = str(folder / "cert.pem"), str(folder / "key.pem")
    config.ca_certs, config.verify_mode = str(folder / "ca.pem"), ssl.CERT_REQUIRED
    [listening] = (sockets := config.create_sockets()).secure_sockets
    config.create_sockets = lambda: sockets
    loop, stop = asyncio.new_event_loop(), asyncio.Event()
    work = serve(_desk, config, shutdown_trigger=stop.wait)
    thread = threading.Thread(target=loop.run_until_complete, args=[work], daemon=True)
    thread.start()
    yield listening.getsockname()[1]
    loop.call_soon_threadsafe(stop.set)
    thread.join()


def ask(folder, **settings):
    """Run the one workflow with these settings of its suite; its result and its archive."""
    folder.file("openapi.json", json.dumps(DESCRIPTION))
    folder.file("a.arazzo.yaml", FLOWS)
    lines = "\n".join(f"{name} = {json.dumps(value)}" for name, value in settings.items())
    suite = '[[suite]]\nname = "a"\nkind = "workflow"\npaths = ["*.arazzo.yaml"]\n[suite.http]\n'
    folder.file("wolfbane.toml", suite + lines)
    result = folder.run().results["a.arazzo.yaml#w"]
    archives = sorted(folder.path.rglob("*.har"), key=os.path.getmtime)
    return result, json.loads(archives[-1].read_text())["log"]["entries"][0]


def test_http_2_with_a_certificate_of_the_clients_own(folder, authority, secured):
    own = authority.issue_cert("quay@saltmarsh.example")
    folder.file("ca.pem", authority.cert_pem.bytes().decode())
    folder.file("client.pem", own.cert_chain_pems[0].bytes().decode())
    folder.file("client.key", own.private_key_pem.bytes().decode())
    url = f"https://localhost:{secured}"
    pair = {"certificate": "client.pem", "key": "client.key"}
    result, entry = ask(folder, base_url=url, verify="ca.pem", **pair)
    assert result["outcome"] == "passed", result["message"]
    assert json.loads(entry["response"]["content"]["text"]) == {"http": "2"}
    assert entry["response"]["httpVersion"] == "HTTP/2"
    assert ask(folder, base_url=url, verify=False, **pair)[0]["outcome"] == "passed"
    result, _ = ask(folder, base_url=url, **pair)
    assert (result["outcome"], "verify failed" in result["message"]) == ("errored", True), result[
        "message"
    ]
    result, _ = ask(folder, base_url=url, verify="ca.pem")
    # TLS 1.3 tells a missing certificate after the handshake: the alert may come too late.
    said = result["message"]
    refused = "without a client's certificate" in said or "the server closed the connection" in said
    assert (result["outcome"], refused) == ("errored", True), said


@pytest.mark.parametrize("by_setting", [True, False])
def test_a_proxy_is_asked_in_the_servers_stead(folder, monkeypatch, by_setting):
    asked = []

    class Proxy(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            asked.append(self.path)
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.end_headers()
            self.wfile.write(b"{}")

        def log_message(self, *told):
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Proxy)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    proxy = f"http://127.0.0.1:{server.server_port}"
    if not by_setting:
        monkeypatch.setenv("http_proxy", proxy.removeprefix("http://"))
    given = {"proxy": proxy} if by_setting else {}
    result, _ = ask(folder, base_url="http://saltmarsh.example.test", **given)
    server.shutdown()
    assert (result["outcome"], asked) == ("passed", ["http://saltmarsh.example.test/look"])
