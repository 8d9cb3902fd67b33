"""Loads against bare loops of the same client, known delays and stalls, and a long record.

    python benchmarks/load.py [NAME...]

Ratios of one run are worth more than times, for machines drift. Nothing here is a test.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

WOLFBANE = str(Path(sys.executable).parent / "wolfbane")
SERVER = """
import asyncio, sys, time
from aiohttp import web
first = 0.0
async def quick(request): return web.json_response({})
async def delay(request):
    await asyncio.sleep(0.05)
    return web.json_response({})
async def stall(request):
    global first
    first = first or time.monotonic()
    since = time.monotonic() - first
    if 8 <= since < 10: await asyncio.sleep(10 - since)
    return web.json_response({})
async def half(request):
    await asyncio.sleep(0.5)
    return web.json_response({})
app = web.Application()
for handler in (quick, delay, stall, half): app.router.add_get("/" + handler.__name__, handler)
async def main():
    runner = web.AppRunner(app, access_log=None)
    await runner.setup()
    site = web.TCPSite(runner, "127.0.0.1", 0, backlog=1000)
    await site.start()
    print(site._server.sockets[0].getsockname()[1], flush=True)
    await asyncio.Event().wait()
asyncio.run(main())
"""
LOOP = """
import asyncio, sys, time
import aiohttp
url, count = sys.argv[1], int(sys.argv[2])
async def main():
    left = count
    async def user():
        nonlocal left
        async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0)) as session:
            while left > 0:
                left -= 1
                async with session.get(url) as answer:
                    await answer.read()
                    assert answer.status == 200
    began = time.process_time()
    await asyncio.gather(*(user() for _ in range(50)))
    print(count / (time.process_time() - began))
asyncio.run(main())
"""


@contextmanager
def suite(operation: str, count: int = 1) -> Iterator[tuple[Path, str]]:
    """A server, and a workspace with workflows that call one of its operations."""
    with tempfile.TemporaryDirectory(prefix="wolfbane-bench-") as place:
        root = Path(place)
        server = subprocess.Popen([sys.executable, "-c", SERVER], stdout=subprocess.PIPE, text=True)
        try:
            assert server.stdout is not None
            url = f"http://127.0.0.1:{server.stdout.readline().strip()}"
            _write(root, operation, url, count)
            yield root, f"{url}/{operation}"
        finally:
            server.kill()
            server.wait()


def _write(root: Path, operation: str, url: str, count: int) -> None:
    described = {
        "openapi": "3.1.0", "info": {"title": "quay", "version": "1"}, "servers": [{"url": url}],
        "paths": {f"/{operation}": {"get": {
            "operationId": operation, "responses": {"200": {"description": "it"}},
        }}},
    }  # fmt: skip
    step = {
        "stepId": "s", "operationId": operation,
        "successCriteria": [{"condition": "$statusCode == 200"}],
    }  # fmt: skip
    document = {
        "arazzo": "1.0.1", "info": {"title": "quay", "version": "1"},
        "sourceDescriptions": [{"name": "quay", "url": "api.json", "type": "openapi"}],
        "workflows": [{"workflowId": f"w{n}", "steps": [step]} for n in range(count)],
    }  # fmt: skip
    (root / "api.json").write_text(json.dumps(described))
    (root / "quay.arazzo.json").write_text(json.dumps(document))
    (root / "wolfbane.toml").write_text(
        '[[suite]]\nname = "api"\nkind = "workflow"\npaths = ["quay.arazzo.json"]\n'
    )


def load(root: Path, *arguments: str) -> list[dict[str, object]]:
    """Run a load; the events of its journal."""
    subprocess.run([WOLFBANE, "load", "-q", *arguments], cwd=root, stdout=subprocess.DEVNULL,
                   check=False)  # fmt: skip
    journal = sorted((root / ".wolfbane/runs").glob("*/journal.jsonl"))[-1]
    return [json.loads(line) for line in journal.read_text().splitlines()]


def figures(root: Path) -> dict[str, object]:
    """The figures of the newest load."""
    shown = subprocess.run([WOLFBANE, "report", "--as", "json"], cwd=root, stdout=subprocess.PIPE,
                           text=True, check=True).stdout  # fmt: skip
    found: dict[str, object] = json.loads(shown)["load"]
    return found


def say(title: str, value: str, limit: str, *, held: bool) -> None:
    """Print a figure and whether it is within its limit."""
    print(f"{title:<52} {value:>12}  ({limit}: {'held' if held else 'OVER'})")


def rate() -> None:
    """Requests per second of a processor: ours against a bare loop of the same client."""
    ratios = []
    with suite("quick") as (root, url):
        for _ in range(3):
            bare = float(subprocess.run([sys.executable, "-c", LOOP, url, "10000"], text=True,
                                        stdout=subprocess.PIPE, check=True).stdout)  # fmt: skip
            events = load(root, "--users", "50", "--loops", "400", "-j", "1", "--contract", "0%")
            whole = [e for e in events if e["type"] == "load-second" and e["cpu"] > 0.5][1:]
            asked = sum(row["count"] for e in whole for row in e["rows"] if row["step"])
            ratios.append(asked / sum(e["cpu"] for e in whole) / bare)
    ratio = statistics.median(ratios)
    say("requests per CPU second, of a bare loop", f"{ratio:.2f}", "at least 0.50",
        held=ratio >= 0.5)  # fmt: skip


def delay() -> None:
    """A server that always takes 50 ms, and 100 users."""
    with suite("delay") as (root, _):
        load(root, "--users", "100", "--for", "10s", "--samples", "off")
        median = figures(root)["requests"]["seconds"]["whole"]["p50"] * 1000
        say("median of 50 ms, 100 users", f"{median:.1f} ms", "within 3 ms", held=median < 53)


def stall() -> None:
    """A server that stalls for 2 s in a load of 20 s at 40 per second."""
    with suite("stall") as (root, _):
        load(root, "--rate", "40/s", "--for", "20s", "--samples", "off")
        p99 = figures(root)["requests"]["seconds"]["whole"]["p99"]
        say("99% with a stall of 2 s, --rate", f"{p99:.2f} s", "at least 1.5 s", held=p99 >= 1.5)


def documents() -> None:
    """Twenty workflows of half a second in one document, with four jobs."""
    with suite("half", 20) as (root, _):
        began = time.perf_counter()
        subprocess.run([WOLFBANE, "run", "-q", "-j4"], cwd=root, stdout=subprocess.DEVNULL,
                       check=False)  # fmt: skip
        took = time.perf_counter() - began
        say("20 workflows of 0.5 s, four jobs", f"{took:.2f} s", "at most 3.5 s", held=took <= 3.5)


def main() -> None:
    """Print the figures that are named, or all."""
    known = {"rate": rate, "delay": delay, "stall": stall, "documents": documents}
    for name in sys.argv[1:] or known:
        known[name]()


if __name__ == "__main__":
    main()
