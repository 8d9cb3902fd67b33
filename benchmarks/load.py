"""Loads against bare loops of the same client, known delays and stalls, and a long record.

    python benchmarks/load.py [NAME...]

Ratios of one run are worth more than times, for machines drift. Nothing here is a test.
"""

from __future__ import annotations

import json
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psutil

WOLFBANE = str(Path(sys.executable).parent / "wolfbane")
SERVER = """
import asyncio, time
# Written by hand: a framework would take most of a processor, and its own delays would be measured.
ANSWER = b"HTTP/1.1 200 OK\\r\\nContent-Type: application/json\\r\\nContent-Length: 2\\r\\n\\r\\n{}"
first = 0.0
def stalled():
    global first
    first = first or time.monotonic()
    since = time.monotonic() - first
    return 10 - since if 8 <= since < 10 else 0
WAITS = {b"quick": lambda: 0, b"delay": lambda: 0.05, b"half": lambda: 0.5, b"stall": stalled}
class Quay(asyncio.Protocol):
    def connection_made(self, transport): self.transport, self.read = transport, b""
    def data_received(self, data):
        self.read += data
        while b"\\r\\n\\r\\n" in self.read:
            head, _, self.read = self.read.partition(b"\\r\\n\\r\\n")
            wait = WAITS[head.split(b" ", 2)[1][1:]]()
            if wait: asyncio.get_running_loop().call_later(wait, self.transport.write, ANSWER)
            else: self.transport.write(ANSWER)
async def main():
    loop = asyncio.get_running_loop()
    server = await loop.create_server(Quay, "127.0.0.1", 0, backlog=1000)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()
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
PLAIN = """
import sys, httpx
with httpx.Client() as client:
    for _ in range(int(sys.argv[2])):
        assert client.get(sys.argv[1]).status_code == 200
"""


@contextmanager
def suite(operation: str, count: int = 1) -> Iterator[tuple[Path, str]]:
    """A server, and a workspace with workflows that call one of its operations."""
    with tempfile.TemporaryDirectory(prefix="wolfbane-bench-") as folder:
        root = Path(folder)
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
        "openapi": "3.1.0",
        "info": {"title": "quay", "version": "1"},
        "servers": [{"url": url}],
        "paths": {
            f"/{operation}": {
                "get": {
                    "operationId": operation,
                    "responses": {"200": {"description": "it"}},
                }
            }
        },
    }
    step = {
        "stepId": "s",
        "operationId": operation,
        "successCriteria": [{"condition": "$statusCode == 200"}],
    }
    document = {
        "arazzo": "1.0.1",
        "info": {"title": "quay", "version": "1"},
        "sourceDescriptions": [{"name": "quay", "url": "api.json", "type": "openapi"}],
        "workflows": [{"workflowId": f"w{n}", "steps": [step]} for n in range(count)],
    }
    (root / "api.json").write_text(json.dumps(described))
    (root / "quay.arazzo.json").write_text(json.dumps(document))
    (root / "wolfbane.toml").write_text(
        '[[suite]]\nname = "api"\nkind = "workflow"\npaths = ["quay.arazzo.json"]\n'
    )


def load(root: Path, *arguments: str) -> list[dict[str, Any]]:
    """Run a load; the events of its journal."""
    subprocess.run(
        [WOLFBANE, "load", "-q", *arguments], cwd=root, stdout=subprocess.DEVNULL, check=False
    )
    journal = sorted((root / ".wolfbane/runs").glob("*/journal.jsonl"))[-1]
    return [json.loads(line) for line in journal.read_text().splitlines()]


def figures(root: Path) -> dict[str, Any]:
    """The figures of the newest load."""
    shown = subprocess.run(
        [WOLFBANE, "report", "--as", "json"],
        cwd=root,
        stdout=subprocess.PIPE,
        text=True,
        check=True,
    ).stdout
    result: dict[str, Any] = json.loads(shown)["load"]
    return result


def say(title: str, value: str, limit: str, *, held: bool) -> None:
    """Print a figure and whether it is within its limit."""
    print(f"{title:<52} {value:>12}  ({limit}: {'held' if held else 'OVER'})")


def rate() -> None:
    """Requests per second of a processor: ours against a bare loop of the same client."""
    ratios = []
    with suite("quick") as (root, url):
        for _ in range(3):
            bare = float(
                subprocess.run(
                    [sys.executable, "-c", LOOP, url, "10000"],
                    text=True,
                    stdout=subprocess.PIPE,
                    check=True,
                ).stdout
            )
            events = load(root, "--users", "50", "--loops", "400", "-j", "1", "--contract", "0%")
            whole = [e for e in events if e["type"] == "load-second" and e["cpu"] > 0.5][1:]
            asked = sum(row["count"] for e in whole for row in e["rows"] if row["step"])
            ratios.append(asked / sum(e["cpu"] for e in whole) / bare)
    ratio = statistics.median(ratios)
    say(
        "requests per CPU second, of a bare loop",
        f"{ratio:.2f}",
        "at least 0.50",
        held=ratio >= 0.5,
    )


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
        subprocess.run(
            [WOLFBANE, "run", "-q", "-j4"], cwd=root, stdout=subprocess.DEVNULL, check=False
        )
        took = time.perf_counter() - began
        say("20 workflows of 0.5 s, four jobs", f"{took:.2f} s", "at most 3.5 s", held=took <= 3.5)


def requests() -> None:
    """A thousand workflows of one request: a run's processor time, and a plain loop's."""
    ratios = []
    with suite("quick", 1000) as (root, url):
        subprocess.run([WOLFBANE, "list"], cwd=root, stdout=subprocess.DEVNULL, check=True)
        for _ in range(3):
            plain = _seconds_of([sys.executable, "-c", PLAIN, url, "1000"], root)
            ratios.append(_seconds_of([WOLFBANE, "run", "-q", "-j1"], root) / plain)
    ratio = statistics.median(ratios)
    say(
        "1,000 workflows of one request, of a plain loop",
        f"{ratio:.2f}",
        "at most 1.5",
        held=ratio <= 1.5,
    )


def _seconds_of(command: list[str], root: Path) -> float:
    """Processor time of a command and its children, in seconds."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(command, cwd=root, stdout=subprocess.DEVNULL, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def million() -> None:
    """A million requests: the memory of the largest process, and the time for the page."""
    with suite("quick") as (root, _):
        loading = subprocess.Popen(
            [WOLFBANE, "load", "-q", "--users", "100", "--loops", "10000"],
            cwd=root,
            stdout=subprocess.DEVNULL,
        )
        largest = 0
        while loading.poll() is None:
            largest = max(largest, *(_memory(each) for each in _tree(loading.pid)))
            time.sleep(0.5)
        megabytes = largest / 1e6
        say(
            "memory of 1,000,000 requests, largest process",
            f"{megabytes:.0f} MB",
            "at most 300 MB",
            held=megabytes <= 300,
        )
        count = figures(root)["requests"]["count"]
        assert count == 1_000_000, count
        began = time.perf_counter()
        subprocess.run(
            [WOLFBANE, "report", "--as", "html", "--to", "page.html"],
            cwd=root,
            stdout=subprocess.DEVNULL,
            check=True,
        )
        took = time.perf_counter() - began
        say("page of 1,000,000 requests", f"{took:.1f} s", "at most 10 s", held=took <= 10)


def _tree(process: int) -> list[psutil.Process]:
    try:
        top = psutil.Process(process)
        return [top, *top.children(recursive=True)]
    except psutil.NoSuchProcess:
        return []


def _memory(process: psutil.Process) -> int:
    try:
        return process.memory_info().rss
    except psutil.NoSuchProcess:
        return 0


def main() -> None:
    """Print the figures that are named, or all."""
    known = {
        "rate": rate,
        "delay": delay,
        "stall": stall,
        "documents": documents,
        "requests": requests,
        "million": million,
    }
    for name in sys.argv[1:] or known:
        known[name]()


if __name__ == "__main__":
    main()
