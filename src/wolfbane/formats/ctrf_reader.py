"""Read CTRF, a common format of test reports as JSON, https://ctrf.io."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

import orjson

from wolfbane.formats.entries import LONGEST, Entry, FormatError
from wolfbane.model import NESTED, Outcome, Part

_STATUSES = {
    "passed": Outcome.PASSED, "failed": Outcome.FAILED, "skipped": Outcome.SKIPPED,
    "pending": Outcome.TODO, "other": Outcome.ERRORED,
}  # fmt: skip
_OURS = {str(outcome): outcome for outcome in Outcome}


def read_ctrf(data: bytes) -> list[Entry]:
    """The tests of a document. Raises FormatError."""
    return list(_entries(_tests(data)))


def began_of(data: bytes) -> str:
    """When the run began, as an ISO 8601 time; nothing where it is not said."""
    try:
        start = orjson.loads(data)["results"]["summary"]["start"]
        return datetime.fromtimestamp(start / 1000, UTC).isoformat()
    except (ValueError, KeyError, TypeError, OSError, OverflowError):
        return ""


def _tests(data: bytes) -> list[Any]:
    try:
        whole = orjson.loads(data)
    except orjson.JSONDecodeError as error:
        raise FormatError(f"is not JSON: {error.msg}", error.lineno) from None
    results = whole.get("results") if isinstance(whole, dict) else None
    tests = results.get("tests") if isinstance(results, dict) else None
    if not isinstance(tests, list):
        raise FormatError("is no CTRF report: it has no results.tests")
    return tests


def _entries(tests: list[Any]) -> Iterator[Entry]:
    for number, test in enumerate(tests):
        try:
            yield _entry(test)
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            words = f"is no CTRF report: test {number} ({type(error).__name__}: {error})"
            raise FormatError(words) from None


def _entry(test: Mapping[str, Any]) -> Entry:
    name, status = str(test["name"]), test["status"]
    if status not in _STATUSES:
        raise ValueError(f"its status is {status!r}")
    raw = str(test.get("rawStatus", ""))
    outcome = _OURS.get(raw, _STATUSES[status])
    if test.get("flaky") and outcome is Outcome.PASSED:
        outcome = Outcome.FLAKY
    message = str(test.get("message", ""))
    if status == "other" and raw not in _OURS:
        message = message or f"its status is other{f', {raw}' if raw else ''}"
    path = str(test.get("filePath", ""))
    suite = test.get("suite", "")
    return Entry(
        name=name,
        outcome=outcome,
        suite=NESTED.join(map(str, suite)) if isinstance(suite, list) else str(suite),
        file=path,
        line=int(test.get("line", 0)),
        seconds=float(test.get("duration", 0)) / 1000,
        message=message[:LONGEST],
        detail=str(test.get("trace", ""))[:LONGEST],
        output="\n".join(map(str, test.get("stdout", ())))[:LONGEST],
        properties=tuple(("tag", str(tag)) for tag in test.get("tags", ())),
        attachments=tuple(str(kept["path"]) for kept in test.get("attachments", ())),
        earlier=tuple(_attempt(name, each) for each in test.get("retryAttempts", ())),
        parts=tuple(Part(str(s["name"]), _STATUSES[s["status"]]) for s in test.get("steps", ())),
        address=name if path and name.startswith(path) else "",
    )


def _attempt(name: str, told: Mapping[str, Any]) -> Entry:
    return Entry(
        name, _STATUSES[told["status"]], seconds=float(told.get("duration", 0)) / 1000,
        message=str(told.get("message", "")), detail=str(told.get("trace", "")),
    )  # fmt: skip
