"""The endpoint between suites and browsers: W3C WebDriver over HTTP, on loopback only."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Iterable, Mapping
from typing import Any

import aiohttp
from aiohttp import web

from wolfbane.browsers.browser_pool import BrowserPool, variables_of
from wolfbane.browsers.engines.bidi import pass_through
from wolfbane.browsers.engines.programs import Programs, Starter
from wolfbane.browsers.engines.wanted import Wanted
from wolfbane.browsers.evidence.command_log import BrowserCommand
from wolfbane.browsers.failures import WebDriverError
from wolfbane.browsers.sessions import BrowserSession
from wolfbane.browsers.worker_endpoints import Hold, WorkerEndpoint
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.settings import Workspace
from wolfbane.workspace.vocabulary import OFF

_HEADERS = {"Cache-Control": "no-cache", "Content-Type": "application/json; charset=utf-8"}
_NO_LIMIT = aiohttp.ClientTimeout(total=None, sock_connect=30)


class Broker:
    """Serves one path for each worker. ``keep`` decides which tests keep their evidence."""

    def __init__(
        self,
        workspace: Workspace,
        starter: Starter,
        keep: str,
        *,
        visible: bool,
        tell: Callable[[BrowserCommand], None],
        pace: float = 0.0,
        hold: Hold | None = None,
    ) -> None:
        self._pace, self._hold = pace, hold
        self._goes_on = asyncio.Event()
        self._goes_on.set()
        self._workspace, self._keep, self._tell = workspace, keep, tell
        self._starter, self._visible = starter, visible
        self._endpoints: dict[str, WorkerEndpoint] = {}
        self._runner: web.ServerRunner | None = None
        self._closed: list[WorkerEndpoint] = []

    async def open(self) -> None:
        """Listen."""
        connector = aiohttp.TCPConnector(limit=0, force_close=False)
        self._client = aiohttp.ClientSession(
            connector=connector, timeout=_NO_LIMIT, cookie_jar=aiohttp.DummyCookieJar()
        )
        self.opener = BrowserPool(
            Programs(self._starter),
            self._workspace,
            self._client,
            visible=self._visible,
            listen=self._keep != OFF,
        )
        self._runner = web.ServerRunner(web.Server(self._handle), handle_signals=False)
        await self._runner.setup()
        site = web.TCPSite(self._runner, "127.0.0.1", 0)
        await site.start()
        self._port = int(self._runner.addresses[0][1])

    def plan(self, tests: Mapping[str, int], first: Iterable[str]) -> None:
        """The number of tests per browser; a session of the first browser is opened in advance."""
        self.opener.left.update(tests)
        for name in first:
            self.opener.expect(name, Wanted())

    def endpoint(self, suite: Suite, browser: str) -> tuple[WorkerEndpoint, dict[str, str]]:
        """An endpoint for one worker, and the variables that contain its address."""
        downloads = self.opener.downloads_of_worker(browser)
        endpoint = WorkerEndpoint(
            browser,
            self.opener,
            self._keep,
            tell=self._tell,
            hold=self._held if self._hold else None,
            downloads=downloads,
        )
        self._endpoints[endpoint.token] = endpoint
        url = f"http://127.0.0.1:{self._port}/{endpoint.token}"
        return endpoint, variables_of(url, browser, suite.webdriver, downloads=downloads)

    async def _held(self, session: BrowserSession, test: str) -> None:
        """Block all commands while a user looks at a browser."""
        assert self._hold is not None
        self._goes_on.clear()
        try:
            await self._hold(session, test)
        finally:
            self._goes_on.set()

    def dismiss(self, endpoint: WorkerEndpoint, worker: str) -> None:
        """A worker has ended."""
        if self._endpoints.pop(endpoint.token, None):
            endpoint.close(worker)
            self._closed.append(endpoint)

    def said(self) -> list[str]:
        """Messages for the user: ignored requests of suites, and sessions that were not closed."""
        endpoints = [*self._closed, *self._endpoints.values()]
        commands = [commands for endpoint in endpoints for commands in endpoint.said]
        return list(dict.fromkeys([*self.opener.said, *commands]))

    async def close(self) -> None:
        """Close every browser, and stop listening."""
        if self._runner is None:
            return
        for endpoint in list(self._endpoints.values()):
            self.dismiss(endpoint, "")
        await self.opener.close()
        await self._client.close()
        await self._runner.cleanup()

    async def _handle(self, request: web.BaseRequest) -> web.StreamResponse:
        try:
            return await self._answered(request)
        except WebDriverError as error:
            return _answer(error.status, json.dumps({"value": error.value}).encode())

    async def _answered(self, request: web.BaseRequest) -> web.StreamResponse:
        if request.headers.get("Host", "") not in self._hosts:
            # A page in a browser must not reach this by a name of its own making.
            return web.Response(status=403, text="the Host header does not match this endpoint\n")
        if "Origin" in request.headers:
            return web.Response(status=403, text="web pages must not use this endpoint\n")
        token, _, path = request.raw_path.lstrip("/").partition("/")
        endpoint = self._endpoints.get(token)
        if endpoint is None:
            raise WebDriverError("unknown command", "there is no such endpoint")
        head, _, rest = path.partition("/")
        if request.method == "GET" and path == "status":
            value = {"ready": True, "message": f"browser {endpoint.browser}"}
            return _answer(200, json.dumps({"value": value}).encode())
        if head != "session":
            raise WebDriverError("unknown command", f"{request.method} /{path}")
        body = await request.content.read()
        if not rest:
            return await self._new(endpoint, request.method, body)
        name, _, command = rest.partition("/")
        session = endpoint.sessions.get(name)
        if session is None:
            raise WebDriverError("invalid session id", f"there is no session {name}")
        if not command and request.headers.get("Upgrade", "").lower() == "websocket":
            return await pass_through(request, self._client, session.driver.granted)
        if request.method == "DELETE" and not command:
            await endpoint.end(session)
            return _answer(200, b'{"value":null}')
        await self._goes_on.wait()
        if self._pace:
            await asyncio.sleep(self._pace)
        tests = endpoint.tests_of(session)
        reply = await session.forward(request.method, command, body, tests=tests)
        return _answer(reply.status, reply.body)

    @property
    def _hosts(self) -> tuple[str, str]:
        return f"127.0.0.1:{self._port}", f"localhost:{self._port}"

    async def _new(self, endpoint: WorkerEndpoint, method: str, body: bytes) -> web.Response:
        if method != "POST":
            raise WebDriverError("unknown method", f"{method} /session")
        try:
            requested: Any = json.loads(body)
        except ValueError as error:
            raise WebDriverError("invalid argument", f"the body is not JSON: {error}") from None
        session = await endpoint.open(requested)
        driver = session.driver
        granted = dict(driver.granted)
        if granted.get("webSocketUrl"):
            address = f"127.0.0.1:{self._port}/{endpoint.token}/session/{driver.session}"
            granted["webSocketUrl"] = f"ws://{address}"
        if driver.downloads:
            granted["wolfbane:downloads"] = driver.downloads
        value = {"sessionId": driver.session, "capabilities": granted}
        return _answer(200, json.dumps({"value": value}).encode())


def _answer(status: int, body: bytes) -> web.Response:
    return web.Response(status=status, body=body, headers=_HEADERS)
