"""What the endpoint between a suite and its browser costs, in each engine that is here.

The same session is spoken to directly and through Wolfbane, in turn, by a client in a process
of its own; medians are printed for each kind of command. Firefox has no driver to compare with:
its own protocol is timed instead. Then sessions: cold, and from the one opened ahead; and twenty
tests with a session each, against the same tests run plainly against one driver.
"""

from __future__ import annotations

import asyncio
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import aiohttp
from aiohttp import web

from wolfbane.browsers.broker import Broker
from wolfbane.browsers.engines.discovery import installed
from wolfbane.browsers.engines.drivers import BrowserDriver, free_port, value_of
from wolfbane.browsers.engines.w3c_driver import W3CDriver
from wolfbane.browsers.engines.wanted import Wanted
from wolfbane.browsers.failures import CannotOpen
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workspace.settings import Settings, Suite, Workspace

COUNT = 400
SESSIONS = 3
MOST_ADDED = 2.0
"""Milliseconds."""
PAGE = (
    "data:text/html,<title>Tide</title><p id=note>ebb</p><input id=crew><button id=on>On</button>"
)
CLIENT = """
import http.client, json, statistics, sys, time
from urllib.parse import urlsplit
count = int(sys.argv[1])
lines = []
for url in sys.argv[2:]:
    place = urlsplit(url)
    lines.append((http.client.HTTPConnection(place.hostname, place.port), place.path))

def send(number, method, path, body=None):
    line, place = lines[number]
    line.request(method, place + path, None if body is None else json.dumps(body))
    return json.loads(line.getresponse().read())["value"]

def by(css):
    return {"using": "css selector", "value": css}

[note], [crew], [button] = (send(0, "POST", "/element", by(css)).values()
                            for css in ("#note", "#crew", "#on"))
commands = {
    "title": [("GET", "/title")],
    "find": [("POST", "/element", by("#note"))],
    "text": [("GET", f"/element/{note}/text")],
    "type": [("POST", f"/element/{crew}/value", {"text": "a"})],
    "click": [("POST", f"/element/{button}/click", {})],
    "failing finds": [("POST", "/element", by("#neap")), ("POST", "/element", by("#spring"))],
}
medians = {}
for name, sent in commands.items():
    times = [[] for _ in lines]
    for _ in range(count):
        for number, kept in enumerate(times):
            began = time.perf_counter()
            for command in sent:
                send(number, *command)
            kept.append(time.perf_counter() - began)
    medians[name] = [statistics.median(each) * 1000 for each in times]
print(json.dumps(medians))
"""
TESTS = """
import json, os, unittest, urllib.request

def send(method, path, body=None):
    data = None if method == "GET" else json.dumps(body or {}).encode()
    request = urllib.request.Request(os.environ["WEBDRIVER_URL"] + path, data, method=method)
    return json.load(urllib.request.urlopen(request))["value"]

class Quay(unittest.TestCase):
    def visit(self):
        arguments = {"args": ["--headless=new", "--no-sandbox", "--disable-gpu"]}
        wish = {"alwaysMatch": {"goog:chromeOptions": arguments}}
        session = "/session/" + send("POST", "/session", {"capabilities": wish})["sessionId"]
        self.addCleanup(send, "DELETE", session)
        send("POST", session + "/url", {"url": "data:text/html,<title>Tide</title>"})
        self.assertEqual(send("GET", session + "/title"), "Tide")
for number in range(20):
    setattr(Quay, f"test_{number}", lambda self: self.visit())
"""


async def client(*urls: str) -> dict[str, list[float]]:
    """Medians in milliseconds of each kind of command, for each address in turn."""
    process = await asyncio.create_subprocess_exec(
        sys.executable, "-c", CLIENT, str(COUNT), *urls, stdout=asyncio.subprocess.PIPE
    )
    printed, _ = await process.communicate()
    medians: dict[str, list[float]] = json.loads(printed)
    return medians


async def native(driver: BrowserDriver) -> float:
    """Firefox asked in its own protocol."""
    times = []
    for _ in range(COUNT):
        began = time.perf_counter()
        await value_of(driver, "GET", "title")
        times.append(time.perf_counter() - began)
    return statistics.median(times) * 1000


async def commands(broker: Broker, engine: str) -> None:
    """A command directly and through the endpoint."""
    suite = Suite("bench", "python", ["."], browsers=[engine], webdriver={"url": "URL"})
    endpoint, variables = broker.endpoint(suite, engine)
    session = await endpoint.open({"capabilities": {}})
    driver = session.driver
    await value_of(driver, "POST", "url", {"url": PAGE})
    through = f"{variables['URL']}/session/{driver.session}"
    if isinstance(driver, W3CDriver):
        for name, (direct, ours) in (await client(driver.address, through)).items():
            failing = name == "failing finds"
            most = 1.5 * direct if failing else 1.25 * direct + 0.3
            say(engine, name, direct, ours, most, "1.5 times" if failing else "1.25 times + 0.3 ms")
        async with passing_on(driver.address) as address:
            for name, (direct, bare) in (await client(driver.address, address)).items():
                print(
                    f"{engine:<10} {name:<14} {direct:7.2f} ms directly, {bare:7.2f} ms by a "
                    "proxy that only passes on"
                )
    else:
        direct, medians = await native(driver), await client(through)
        ours = medians["title"][0]
        say(engine, "title", direct, ours, direct + MOST_ADDED, f"{MOST_ADDED:.2f} ms more")
    broker.dismiss(endpoint, "")


@asynccontextmanager
async def passing_on(address: str) -> AsyncIterator[str]:
    """A proxy by the library that the endpoint is made with, which does nothing but pass on.

    What it adds to a command is what HTTP costs twice; the rest of the endpoint's time is ours.
    """
    limit = aiohttp.ClientTimeout(total=None)
    async with aiohttp.ClientSession(timeout=limit, cookie_jar=aiohttp.DummyCookieJar()) as session:

        async def answer(request: web.BaseRequest) -> web.Response:
            body = await request.content.read()
            headers = {"Content-Type": "application/json"}
            url = address + request.raw_path
            async with session.request(
                request.method, url, data=body or None, headers=headers if body else {}
            ) as reply:
                return web.Response(status=reply.status, body=await reply.read(), headers=headers)

        runner = web.ServerRunner(web.Server(answer), handle_signals=False)
        await runner.setup()
        await web.TCPSite(runner, "127.0.0.1", 0).start()
        yield f"http://127.0.0.1:{runner.addresses[0][1]}"
        await runner.cleanup()


def say(engine: str, name: str, direct: float, ours: float, most: float, limit: str) -> None:
    """Print a pair of times in milliseconds, and whether ours is within its limit."""
    held = "held" if ours <= most else "OVER"
    print(
        f"{engine:<10} {name:<14} {direct:7.2f} ms directly, {ours:7.2f} ms through"
        f"  (at most {limit}: {held})"
    )


def whole_runs() -> None:
    """Twenty tests with a session each: plainly against one driver, and by Wolfbane, in turn."""
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "test_quay.py").write_text(TESTS)
        (Path(folder) / "wolfbane.toml").write_text(
            '[[suite]]\nname = "a"\nkind = "python"\npaths = ["."]\nbrowsers = ["chromium"]\n'
        )
        port = free_port()
        plain = [sys.executable, "-m", "unittest"]
        wolfbane = [str(Path(sys.executable).parent / "wolfbane"), "run", "-q", "-j1"]
        ratios = []
        for _ in range(3):
            with subprocess.Popen(
                ["chromedriver", f"--port={port}"],
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            ) as driver:
                variables = {**os.environ, "WEBDRIVER_URL": f"http://127.0.0.1:{port}"}
                time.sleep(1)
                theirs = seconds(plain, folder, variables)
                driver.kill()
            ratios.append(seconds(wolfbane, folder, dict(os.environ)) / theirs)
        ratio = statistics.median(ratios)
        held = "held" if ratio <= 1 else "OVER"
        print(
            f"chromium   20 tests with a session each, of a plain loop: {ratio:.2f}"
            f"  (at most 1.00: {held})"
        )


def two_jobs() -> None:
    """Eight files that use one session each for twelve pages, with two jobs and with one, in turn.

    Not with a session for each test: to open one keeps both cores busy by itself.
    """
    work = """
    @classmethod
    def setUpClass(cls):
        cls.at = "/session/" + send("POST", "/session", {"capabilities": {}})["sessionId"]
        cls.addClassCleanup(send, "DELETE", cls.at)

    def visit(self):
        for number in range(3):
            page = f"data:text/html,<title>Tide</title><p>{number}"
            send("POST", self.at + "/url", {"url": page})
            self.assertEqual(send("GET", self.at + "/title"), "Tide")
for number in range(4):
    setattr(Quay, f"test_{number}", lambda self: self.visit())
"""
    with tempfile.TemporaryDirectory() as folder:
        tests = TESTS.partition("    def visit")[0] + work
        for number in range(8):
            (Path(folder) / f"test_quay_{number}.py").write_text(tests)
        (Path(folder) / "wolfbane.toml").write_text(
            '[[suite]]\nname = "a"\nkind = "python"\npaths = ["."]\nbrowsers = ["chromium"]\n'
        )
        run = [str(Path(sys.executable).parent / "wolfbane"), "run", "-q"]
        ratios = [
            seconds([*run, "-j2"], folder, dict(os.environ))
            / seconds([*run, "-j1"], folder, dict(os.environ))
            for _ in range(3)
        ]
        ratio = statistics.median(ratios)
        held = "held" if ratio <= 0.65 else "OVER"
        print(
            f"chromium   eight files with a session each, two jobs, of one: {ratio:.2f}"
            f"  (at most 0.65: {held})"
        )


def seconds(command: list[str], folder: str, variables: dict[str, str]) -> float:
    """How long a command takes."""
    began = time.perf_counter()
    subprocess.run(
        command,
        cwd=folder,
        env=variables,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        check=True,
    )
    return time.perf_counter() - began


async def sessions(broker: Broker, engine: str) -> None:
    """Opening a session when nothing is ready, and when one is."""
    opener = broker.opener
    cold, warm = [], []
    for kept in (cold, warm) * SESSIONS:
        if kept is warm:
            opener.expect(engine, Wanted())
            await opener.ready(engine)
        began = time.perf_counter()
        driver = await opener.take(engine, Wanted())
        kept.append(time.perf_counter() - began)
        await driver.close()
    first, second = statistics.median(cold), statistics.median(warm)
    held = "held" if first >= 2 * second else "OVER"
    print(
        f"{engine:<10} a session {first:6.2f} s cold, {second:6.3f} s from the one ahead  "
        f"(twice as fast: {held})"
    )


async def main() -> None:
    """Every engine that is here."""
    with tempfile.TemporaryDirectory() as folder, ProcessGroup() as group:
        workspace = Workspace(Path(folder), Settings(), None)
        broker = Broker(workspace, group, "failures", visible=False, tell=lambda command: None)
        await broker.open()
        for engine in ("chromium", "firefox", "webkit"):
            try:
                installed(engine, workspace.browser(engine))
            except CannotOpen as error:
                print(f"{engine:<10} not here: {error}")
                continue
            await commands(broker, engine)
            await sessions(broker, engine)
        await broker.close()


if __name__ == "__main__":
    asyncio.run(main())
    whole_runs()
    two_jobs()
