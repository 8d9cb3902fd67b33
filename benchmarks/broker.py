"""What the endpoint between a suite and its browser costs, in each engine that is here.

The same session is spoken to directly and through Wolfbane, in turn, by a client in a process
of its own; a median is printed for both, and what is added. Firefox has no driver to compare
with: its own protocol is timed instead. Then sessions: cold, and from the one opened ahead.
"""

from __future__ import annotations

import asyncio
import json
import statistics
import sys
import tempfile
import time
from pathlib import Path

from wolfbane.browsers.broker import Broker
from wolfbane.browsers.capabilities import Wanted
from wolfbane.browsers.drivers import BrowserDriver, W3CDriver, value_of
from wolfbane.browsers.failures import CannotOpen
from wolfbane.browsers.finding import installed
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workspace.settings import Settings, Suite, Workspace

COUNT = 400
SESSIONS = 3
MOST_ADDED = 2.0
"""Milliseconds."""
CLIENT = """
import http.client, json, sys, time
from urllib.parse import urlsplit
count = int(sys.argv[1])
lines = []
for url in sys.argv[2:]:
    place = urlsplit(url)
    lines.append((http.client.HTTPConnection(place.hostname, place.port), place.path))
times = [[] for _ in lines]
for _ in range(count):
    for (line, path), kept in zip(lines, times):
        began = time.perf_counter()
        line.request("GET", path + "/title")
        line.getresponse().read()
        kept.append(time.perf_counter() - began)
print(json.dumps(times))
"""


async def client(*urls: str) -> list[float]:
    """Medians in milliseconds of asking each address in turn."""
    process = await asyncio.create_subprocess_exec(
        sys.executable, "-c", CLIENT, str(COUNT), *urls, stdout=asyncio.subprocess.PIPE
    )
    told, _ = await process.communicate()
    return [statistics.median(times) * 1000 for times in json.loads(told)]


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
    await value_of(driver, "POST", "url", {"url": "data:text/html,<title>Tide</title>"})
    through = f"{variables['URL']}/session/{driver.session}"
    if isinstance(driver, W3CDriver):
        direct, ours = await client(driver.address, through)
    else:
        direct, (ours,) = await native(driver), await client(through)
    added = ours - direct
    held = "held" if added <= MOST_ADDED else "OVER"
    print(f"{engine:<10} a command {direct:6.2f} ms directly, {ours:6.2f} ms through: "
          f"{added:+.2f} ms  (at most {MOST_ADDED:.2f}: {held})")  # fmt: skip
    broker.dismiss(endpoint, "")


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
    print(f"{engine:<10} a session {first:6.2f} s cold, {second:6.3f} s from the one ahead  "
          f"(twice as fast: {held})")  # fmt: skip


async def main() -> None:
    """Every engine that is here."""
    with tempfile.TemporaryDirectory() as place, ProcessGroup() as group:
        workspace = Workspace(Path(place), Settings(), None)
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
