"""Records a load test second by second: counts, times, errors, and one row per request."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable
from functools import lru_cache
from typing import Any
from urllib.parse import urlsplit

from wolfbane.basis.histogram import Histogram
from wolfbane.kinds.workflow.runner.evidence import Exchanges, redirects_of
from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.sending import NoAnswer, Sender
from wolfbane.kinds.workflow.runner.test_run import WorkflowTestEnd
from wolfbane.kinds.workflow.runner.transport import Timing

PARTS = ("whole", "first_byte", "connect", "tls")
Key = tuple[str, str]
"""The name of a workflow (``PATH#NAME``) and a step; the step is empty for the whole workflow."""


class SecondOfStep:
    """The figures of one step, or of one workflow, in one second."""

    def __init__(self) -> None:
        self.count = self.sent = self.received = 0
        self.errors: Counter[str] = Counter()
        self.times: dict[str, list[float]] = {part: [] for part in PARTS}

    def data(self) -> dict[str, Any]:
        """The row in the form of a message."""
        times = {part: _histogram(seconds) for part, seconds in self.times.items() if any(seconds)}
        return {
            "count": self.count,
            "sent": self.sent,
            "received": self.received,
            "errors": dict(self.errors),
            "times": times,
        }


def _histogram(seconds: list[float]) -> dict[str, Any]:
    data = Histogram.of(seconds).data()
    return {
        "count": data.count,
        "total": data.total,
        "largest": data.largest,
        "counts": data.counts,
    }


class Recorder:
    """Collects the figures of all users in a process.

    ``began`` is the start of the load test by ``perf_counter``.

    ``samples`` decides which rows are kept: ``all``, ``errors`` or ``off``.
    """

    def __init__(self, began: float, samples: str, keep: Callable[..., None]) -> None:
        self.began, self._samples = began, samples
        self.keep = keep
        """Called with the first failing exchange for each key and message."""
        self.rows: dict[Key, SecondOfStep] = {}
        self.lines: list[str] = []
        self.ends: dict[str, dict[str, Any]] = {}
        """The result of each test, by address."""
        self._kept: set[tuple[Key, str]] = set()

    def step(self, key: Key) -> SecondOfStep:
        """The row of a step in this second."""
        row = self.rows.get(key)
        if row is None:
            row = self.rows[key] = SecondOfStep()
        return row

    def take(self) -> tuple[list[dict[str, Any]], str]:
        """The rows and the samples since the last call."""
        rows, self.rows = self.rows, {}
        lines, self.lines = self.lines, []
        data = [{"workflow": key[0], "step": key[1], **row.data()} for key, row in rows.items()]
        return data, "".join(lines)

    def is_new(self, key: Key, kind: str) -> bool:
        """Whether no exchange is stored yet for an error of this kind."""
        known = (key, kind) in self._kept
        self._kept.add((key, kind))
        return not known

    def ended(self, address: str, end: WorkflowTestEnd) -> None:
        """Count a run of a test; the first run is its example, until one fails."""
        known = self.ends.get(address)
        bad = end.outcome != "passed"
        if known is None or (bad and not known["failed"]):
            count, seconds = (known["count"], known["seconds"]) if known else (0, 0.0)
            self.ends[address] = known = {
                "count": count,
                "failed": 0,
                "seconds": seconds,
                "outcome": end.outcome,
                "message": end.message,
                "line": end.line,
                "parts": end.parts,
            }
        known["count"] += 1
        known["failed"] += bad
        known["seconds"] = round(known["seconds"] + end.seconds, 6)

    def sample(self, *cells: object, failed: bool) -> None:
        """Keep the row of a request, if such rows are kept."""
        if self._samples == "all" or (failed and self._samples == "errors"):
            self.lines.append(",".join(map(str, cells)) + "\n")


class LoadExchanges(Exchanges):
    """The exchanges of one workflow of one user. They are measured, but only failed ones are kept.

    ``due`` is the planned start of the workflow: its time and that of its first request are
    measured from there. ``look`` reports secrets in the last exchange before the exchange is kept.
    """

    def __init__(
        self,
        recorder: Recorder,
        sender: Sender,
        workflow: str,
        user: int,
        due: float,
        look: Callable[[], None],
    ) -> None:
        super().__init__()
        self._recorder, self._sender, self._workflow, self._user = recorder, sender, workflow, user
        self._began, self._look = due, look
        self._due = due
        self._last: tuple[Call, Answer | None, NoAnswer | None] | None = None

    def add(
        self,
        call: Call,
        answer: Answer | None,
        seconds: float,
        step: str,
        failed: NoAnswer | None = None,
    ) -> None:
        self._last = call, answer, failed

    def step_ended(self, step: str, problem: Exception | None) -> None:
        if self._last is None:  # no request was made: it runs another workflow, or could not
            if problem is not None:
                self._count_error((self._workflow, step), str(problem), None, answer=None)
            return
        (call, answer, failed), self._last = self._last, None
        timing, key = self._sender.timing, (self._workflow, step)
        began, self._due = self._due or timing.began, 0.0
        hops, last = redirects_of(answer, failed)
        row = self._recorder.step(key)
        row.count += 1
        row.times["whole"].append(timing.ended - began)
        if timing.first_byte:
            row.times["first_byte"].append(timing.first_byte - began)
        if timing.connect:
            row.times["connect"].append(timing.connect)
        if timing.tls:
            row.times["tls"].append(timing.tls)
        kind = ""
        if problem is not None:
            kind = self._count_error(key, str(problem), call, answer=answer)
        for asked, hop in hops:
            ended = max(began, timing.began) + hop.seconds
            self._sample(step, asked, hop, began=began, ended=ended, timing=Timing(began), kind="")
            began = ended
        self._sample(
            step, last or call, answer, began=began, ended=timing.ended, timing=timing, kind=kind
        )

    def _sample(
        self,
        step: str,
        call: Call,
        answer: Answer | None,
        began: float,
        ended: float,
        timing: Timing,
        kind: str,
    ) -> None:
        """Count the bytes of one exchange, and keep its row."""
        row = self._recorder.step((self._workflow, step))
        row.sent += len(call.content)
        if answer is not None:
            row.received += answer.received
        self._recorder.sample(
            f"{began - self._recorder.began:.6f}",
            self._user,
            _cell(self._workflow),
            _cell(step),
            call.method,
            _cell(call.url.partition("?")[0]),
            answer.status if answer is not None else "",
            f"{ended - began:.6f}",
            f"{timing.first_byte - began:.6f}" if timing.first_byte else "",
            f"{timing.connect:.6f}" if timing.connect else "",
            f"{timing.tls:.6f}" if timing.tls else "",
            len(call.content),
            answer.received if answer is not None else "",
            _cell(kind),
            failed=bool(kind),
        )

    def _count_error(self, key: Key, message: str, call: Call | None, answer: Answer | None) -> str:
        kind = kind_of(message, key[1])
        self._recorder.step(key).errors[kind] += 1
        if self._recorder.is_new(key, kind):
            self._look()
            self._recorder.keep(key, kind, message, call, answer)
        return kind

    def workflow_ended(self, outcome: str, message: str) -> None:
        """Count a complete workflow."""
        row = self._recorder.step((self._workflow, ""))
        row.count += 1
        row.times["whole"].append(time.perf_counter() - self._began)
        if outcome != "passed":
            row.errors[kind_of(message, "")] += 1


def kind_of(message: str, step: str) -> str:
    """The common text of errors of one kind: the first line, without the step and the address.

    ``GET http://host/berths/7 returned 503`` and the same for another berth are one kind.
    """
    lines = message.removeprefix(f"step {step}: ").splitlines()
    first = ""
    if lines:
        first = lines[0]
    if " returned " in first and len(lines) > 1:
        return f"returned {first.rpartition(' returned ')[2]}: {lines[1]}"
    message, _, where = first.rpartition(": ")
    if urlsplit(where.partition(" ")[2]).scheme:
        return message
    return first


@lru_cache(maxsize=4096)
def _cell(text: str) -> str:
    """A text as a cell of a CSV file (RFC 4180)."""
    if any(sign in text for sign in '",\n\r'):
        return '"' + text.replace('"', '""') + '"'
    return text
