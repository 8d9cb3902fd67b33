"""Reads runs from report files: Wolfbane's JSON, xUnit-style XML, CTRF and TAP."""

from __future__ import annotations

import hashlib
from collections import Counter
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import msgspec
from msgspec import structs

from wolfbane.errors import InputError, Problem
from wolfbane.formats.ctrf.reader import read_ctrf
from wolfbane.formats.reported import FormatError, ReportedTest, nesting_limit
from wolfbane.formats.tap.reader import read_tap
from wolfbane.formats.xunit.reader import XunitReader
from wolfbane.model import Outcome
from wolfbane.results.history.entries import RunEntry, TestEnd, with_quarantined
from wolfbane.results.history.entry_addresses import addresses
from wolfbane.results.history.ingest import ended_of, entry_of

PIECE = 1 << 20
ORIGIN = "report "
"""The prefix of the origin of an imported run."""


def read_report(path: Path, suite: str = "") -> tuple[RunEntry, list[TestEnd]]:
    """The run in a report; its format is detected from its first characters.

    Tests are assigned to ``suite`` if it is not empty. Raises InputError.
    """
    try:
        with nesting_limit():
            return _read(path, suite)
    except FormatError as error:
        raise InputError(Problem(error.message, str(path), error.line)) from None
    except OSError as error:
        raise InputError(Problem(f"cannot read the file: {error}", str(path))) from None


def _read(path: Path, suite: str) -> tuple[RunEntry, list[TestEnd]]:
    reason = ""
    with path.open("rb") as file:
        start = file.read(512).lstrip(b"\xef\xbb\xbf \t\r\n")
    if start.startswith((b"<", b"\xff\xfe", b"\xfe\xff")):
        began, entries = _xunit(path)
    elif start.startswith(b"{"):
        data = path.read_bytes()
        if _is_ours(data):
            return _ours(path, data)
        began, entries = read_ctrf(data)
    else:
        with path.open(encoding="utf-8", errors="replace") as lines:
            began, (entries, reason) = "", read_tap(lines)
    if not entries and not reason:
        raise FormatError("the report contains no tests")
    return _run(path, began, entries, suite=suite, reason=reason)


def _xunit(path: Path) -> tuple[str, list[ReportedTest]]:
    reader, entries = XunitReader(), []
    with path.open("rb") as file:
        while data := file.read(PIECE):
            entries += [replace(e, output="", detail="") for e in reader.feed(data)]
    reader.close()
    return reader.began, entries


def _is_ours(data: bytes) -> bool:
    try:
        whole = msgspec.json.decode(data)
    except (msgspec.DecodeError, ValueError):
        return False
    return isinstance(whole, dict) and "started" in whole


def _ours(path: Path, data: bytes) -> tuple[RunEntry, list[TestEnd]]:
    """A report that ``--report json=PATH`` wrote."""
    try:
        whole = msgspec.json.decode(data)
        ended = [ended_of(result, whole["started"]) for result in whole["results"]]
        entry = entry_of(whole["started"], whole["finished"])
    except (KeyError, TypeError, AttributeError) as error:
        message = f"is not a JSON report of a run ({type(error).__name__}: {error})"
        raise InputError(Problem(message, str(path))) from None
    return structs.replace(entry, origin=f"{ORIGIN}{path.name}"), ended


def _run(
    path: Path, began: str, entries: list[ReportedTest], suite: str, reason: str
) -> tuple[RunEntry, list[TestEnd]]:
    when = _time(began) or datetime.fromtimestamp(path.stat().st_mtime).astimezone()
    ended = [
        TestEnd(
            address=address,
            suite=(suite or entry.suite or entry.group or "imported")[:200],
            outcome=str(entry.outcome),
            seconds=entry.seconds,
            attempts=1 + len(entry.earlier),
            message=entry.message.partition("\n")[0],
            quarantined=bool(entry.quarantined),
        )
        for entry, address in zip(entries, addresses(entries), strict=True)
    ]
    counts = Counter(each.outcome for each in ended if not each.quarantined)
    bad = any(Outcome(outcome).is_bad for outcome in counts)
    mark = hashlib.sha256(repr(sorted(ended, key=lambda each: each.address)).encode())
    run = RunEntry(
        name=f"{when:%Y%m%d-%H%M%S}-{mark.hexdigest()[:4]}",
        began=when.isoformat(timespec="seconds"),
        seconds=round(sum(each.seconds for each in ended), 3),
        exit_code=1 if bad or reason else 0,
        counts=with_quarantined(counts, sum(each.quarantined for each in ended)),
        origin=f"{ORIGIN}{path.name}"[:200],
        reason=reason,
    )
    return run, ended


def _time(text: str) -> datetime | None:
    """A time stamp; without a zone, which is common, it is local time."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    return moment.astimezone()
