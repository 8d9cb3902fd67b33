"""Read CTRF, a common format of test reports as JSON, https://ctrf.io, in pieces."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

import ijson

from wolfbane.formats.reported import LONGEST, FormatError, ReportedTest
from wolfbane.model import NESTED, Outcome, Part

_STATUSES = {
    "passed": Outcome.PASSED,
    "failed": Outcome.FAILED,
    "skipped": Outcome.SKIPPED,
    "pending": Outcome.TODO,
    "other": Outcome.ERRORED,
}
_OURS = {str(outcome): outcome for outcome in Outcome}


class CtrfReader:
    """Parses bytes into entries. ``close`` reports missing parts at the end.

    All calls raise FormatError. ``began`` is the start of the run (ISO 8601), if the report has it.
    """

    def __init__(self) -> None:
        self.began = ""
        self._count = 0
        self._is_report = False
        self._test: Any = None
        self._events: Any = ijson.sendable_list()
        self._parser = ijson.parse_coro(self._events, use_float=True)

    def feed(self, data: bytes) -> list[ReportedTest]:
        """The entries that ended in this piece."""
        try:
            self._parser.send(data)
        except ijson.JSONError as error:
            raise FormatError(f"is not JSON: {_first_line(error)}") from None
        return list(self._taken())

    def close(self) -> list[ReportedTest]:
        """The document has ended."""
        try:
            self._parser.close()
        except ijson.JSONError as error:
            raise FormatError(f"is not JSON: {_first_line(error)}") from None
        entries = list(self._taken())
        if not self._is_report:
            raise FormatError("is not a CTRF report: it has no results.tests")
        return entries

    def _taken(self) -> Iterator[ReportedTest]:
        """The complete tests from the events so far."""
        for path, event, value in self._events:
            if self._test is not None:
                self._test.event(event, value)
            if path == "results.tests":
                self._is_report |= event == "start_array"
            elif path == "results.tests.item" and event == "start_map":
                self._test = ijson.ObjectBuilder()
                self._test.event(event, value)
            elif path == "results.tests.item" and event == "end_map":
                yield self._made(self._test.value)
                self._test = None
            elif path == "results.tests.item" and self._test is None:
                self._made(value)
            elif path == "results.summary.start":
                self.began = _moment(value)
        self._events.clear()

    def _made(self, test: Any) -> ReportedTest:
        number = self._count
        self._count += 1
        try:
            return _entry(test)
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            message = f"is not a CTRF report: test {number} ({type(error).__name__}: {error})"
            raise FormatError(message) from None


def read_ctrf(data: bytes) -> tuple[str, list[ReportedTest]]:
    """The start of the run, if the report has it, and the tests of a document.

    Raises FormatError.
    """
    reader = CtrfReader()
    entries = reader.feed(data) + reader.close()
    return reader.began, entries


def _moment(milliseconds: Any) -> str:
    try:
        return datetime.fromtimestamp(milliseconds / 1000, UTC).isoformat()
    except (ValueError, TypeError, OSError, OverflowError):
        return ""


def _first_line(error: Exception) -> str:
    return str(error.args[0] if error.args else error).strip().partition("\n")[0]


def _entry(test: Mapping[str, Any]) -> ReportedTest:
    name, status = str(test["name"]), test["status"]
    if status not in _STATUSES:
        raise ValueError(f"the status of the test is {status!r}")
    raw = str(test.get("rawStatus", ""))
    outcome = _OURS.get(raw, _STATUSES[status])
    if test.get("flaky") and outcome is Outcome.PASSED:
        outcome = Outcome.FLAKY
    message = str(test.get("message", ""))
    if status == "other" and raw not in _OURS:
        message = message or f"its status is other{f', {raw}' if raw else ''}"
    path = str(test.get("filePath", ""))
    extra = test.get("extra") or {}
    tags = [("tag", str(tag)) for tag in test.get("tags", ())]
    tags += [(key, str(test[key])) for key in ("browser", "device") if test.get(key)]
    suite = test.get("suite", "")
    return ReportedTest(
        name=name,
        outcome=outcome,
        suite=NESTED.join(map(str, suite)) if isinstance(suite, list) else str(suite),
        file=path,
        line=int(test.get("line", 0)),
        seconds=float(test.get("duration", 0)) / 1000,
        message=message[:LONGEST],
        detail=str(test.get("trace", ""))[:LONGEST],
        output="\n".join(map(str, test.get("stdout", ())))[:LONGEST],
        properties=tuple(tags),
        attachments=tuple(str(kept["path"]) for kept in test.get("attachments", ())),
        earlier=tuple(_attempt(name, each) for each in test.get("retryAttempts", ())),
        parts=tuple(Part(str(s["name"]), _STATUSES[s["status"]]) for s in test.get("steps", ())),
        address=name if path and name.startswith(path) else "",
        quarantined=str(extra.get("quarantined", "")),
    )


def _attempt(name: str, data: Mapping[str, Any]) -> ReportedTest:
    return ReportedTest(
        name,
        _STATUSES[data["status"]],
        seconds=float(data.get("duration", 0)) / 1000,
        message=str(data.get("message", "")),
        detail=str(data.get("trace", "")),
    )
