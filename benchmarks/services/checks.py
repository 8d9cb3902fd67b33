"""Compares the records of a run or of a load with the account of the server."""

from __future__ import annotations

import csv
import gzip
import io
import json
import statistics
from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from benchmarks.services.server import Entry

CLOCKS = 0.002
"""Seconds by which two clocks of one machine may disagree."""
TIMES = "time: "
"""The start of a difference between times."""
NETWORK = 0.25
"""Seconds that the way and the client's own work may add to one request on a busy machine."""


def run_differences(
    folder: Path, account: Sequence[Entry], closing: Collection[str]
) -> Iterator[str]:
    """Compare the archives of a run with the account, workflow by workflow, in order.

    ``closing`` are paths after whose response the server closes a connection without saying so.
    """
    archives = sorted(folder.glob("runs/*/evidence/*.har"))
    entries = [e for file in archives for e in json.loads(file.read_bytes())["log"]["entries"]]
    ours: dict[str, list[Any]] = {}
    theirs: dict[str, list[Entry]] = {}
    for entry in entries:
        ours.setdefault(_flow(urlsplit(entry["request"]["url"]).path), []).append(entry)
    for request in account:
        theirs.setdefault(_flow(request.path), []).append(request)
    for flow in sorted(ours.keys() | theirs.keys()):
        mine, seen = ours.get(flow, []), theirs.get(flow, [])
        if len(mine) > len(seen):
            mine = [entry for n, entry in enumerate(mine) if not _met_an_end(mine, n, closing)]
        if len(mine) != len(seen):
            yield f"{flow}: {len(seen)} requests at the server, {len(mine)} in the archive"
        for number, (entry, request) in enumerate(zip(mine, seen, strict=False)):
            for message in _entry_differences(entry, request):
                path = f"({flow}, request {number}, {request.method} {request.path})"
                yield f"{message} {path}"


def _met_an_end(entries: Sequence[Any], number: int, closing: Collection[str]) -> bool:
    """Whether a request without a response may have met the end of its connection on the way: then
    the server never saw it.
    """
    if number == 0 or entries[number]["response"]["status"]:
        return False
    return urlsplit(entries[number - 1]["request"]["url"]).path in closing


def _entry_differences(entry: Any, request: Entry) -> Iterator[str]:
    sent, response = entry["request"], entry["response"]
    pairs = [
        ("method", sent["method"], request.method),
        ("path", urlsplit(sent["url"]).path, request.path),
        ("status", response["status"], request.status),
        ("length of the request", max(sent["bodySize"], 0), request.received),
    ]
    if request.status:
        pairs.append(("length of the response", max(response["bodySize"], 0), request.sent))
    for name, here, there in pairs:
        if here != there:
            yield f"{name}: {there} at the server, {here} in the archive"
    seconds, taken = entry["time"] / 1000, request.ended - request.began
    if not taken - CLOCKS <= seconds <= taken + NETWORK and request.status:
        yield f"{TIMES}{taken:.4f} s at the server, {seconds:.4f} s in the archive"


def _flow(path: str) -> str:
    return path.removeprefix("/landed").split("/")[1]


def load_differences(
    folder: Path, account: Sequence[Entry], closing: Collection[str]
) -> Iterator[str]:
    """Compare the samples of a load with the account: each request, and the percentiles."""
    [file] = folder.glob("runs/*/samples.csv.gz")
    rows = list(csv.DictReader(io.StringIO(gzip.decompress(file.read_bytes()).decode())))
    ours = Counter(
        (row["method"], urlsplit(row["url"]).path, int(row["status"] or 0), int(row["sent_bytes"]))
        for row in rows
    )
    theirs = Counter((e.method, e.path, e.status, e.received) for e in account)
    different = theirs - ours
    different |= Counter({k: n for k, n in (ours - theirs).items() if k[2] or not closing})
    for key, count in different.items():
        yield f"{key}: {theirs[key]} at the server, {ours[key]} in the samples ({count} differ)"
    received = sum(int(row["received_bytes"]) for row in rows if int(row["status"] or 0))
    if received != (sent := sum(e.sent for e in account if e.status)):
        yield f"bytes: {sent} sent by the server, {received} received by the samples"
    whole = [float(r["whole_s"]) for r in rows if int(r["status"] or 0)]
    taken = [e.ended - e.began for e in account if e.status]
    if len(whole) == len(taken) > 20:
        for name, here, there in _percentiles(whole, taken):
            if not there - CLOCKS <= here <= there + NETWORK:
                yield f"{TIMES}{name}: {there:.4f} s at the server, {here:.4f} s in the samples"


def _percentiles(
    ours: Sequence[float], theirs: Sequence[float]
) -> Iterator[tuple[str, float, float]]:
    here, there = (statistics.quantiles(values, n=100) for values in (ours, theirs))
    for percent in (50, 75, 90, 95, 99):
        yield f"{percent}%", here[percent - 1], there[percent - 1]
