"""Merges the reports of all processes of a load test, second by second."""

from __future__ import annotations

import gzip
from collections.abc import Callable, Sequence
from pathlib import Path

from wolfbane.events.load_events import LoadFinished, LoadSecond
from wolfbane.events.run_events import Event
from wolfbane.load.figures import LoadFigures
from wolfbane.load.load_request import LoadRequest
from wolfbane.workers.load_messages import LoadedMessage, LoadErrorMessage, LoadSecondMessage

BUSY = 0.9
"""Processor use above which a process of Wolfbane counts as busy."""
LAG = 0.05
"""Seconds that an event loop may be late before figures become unreliable."""
_OFTEN = 0.2
"""Part of the seconds in which that may happen before the load test is marked."""


class Measured:
    """Merges the figures of each second, keeps samples, and checks whether to stop early."""

    def __init__(
        self,
        *,
        load: LoadRequest,
        folder: Path,
        tell: Callable[[Event], None],
        stop: Callable[[], None],
    ) -> None:
        self._load, self._tell, self._stop = load, tell, stop
        self.figures = LoadFigures()
        self.processes = 1
        self.stopped_by = ""
        self._samples = SampleFile(folder, wanted=load.samples != "off")
        self._waiting: dict[int, list[LoadSecondMessage]] = {}
        self._errors: set[tuple[str, str, str]] = set()
        self._late = self._seconds = self._busy = self._lagging = 0
        self.losses: list[str] = []
        """Processes that ended too early, as texts."""

    def second(self, message: LoadSecondMessage, mask: Callable[[str], str]) -> None:
        """Add the figures of one process; when all have reported a second, report it."""
        self._samples.add(mask(message.samples))
        messages = self._waiting.setdefault(message.second, [])
        messages.append(message)
        if len(messages) == self.processes:
            self._whole(message.second)

    def _whole(self, second: int) -> None:
        messages = self._waiting.pop(second)
        event = LoadSecond(
            second=second,
            users=sum(each.users for each in messages),
            rows=tuple(row for each in messages for row in each.rows),
            lag=max(each.lag for each in messages),
            cpu=max(each.cpu for each in messages),
            late=sum(each.late for each in messages),
        )
        self.figures.add(event.rows)
        self.figures.seconds = max(self.figures.seconds, second + 1.0)
        self._seconds += 1
        self._busy += event.cpu > BUSY
        self._lagging += event.lag > LAG
        self._late += event.late
        self._tell(event)
        if not self.stopped_by:
            self._look_whether_to_stop()

    def _look_whether_to_stop(self) -> None:
        for limit in self._load.read_stops:
            if self.figures.requests.count and limit.holds(self.figures):
                self.stopped_by = f"{limit.text}: {limit.shown(self.figures)}"
                self._stop()
                return

    def is_new_error(self, message: LoadErrorMessage) -> bool:
        """Whether no process has reported such an error before."""
        key = (message.workflow, message.step, message.kind)
        known = key in self._errors
        self._errors.add(key)
        return not known

    def lost(self, message: str) -> None:
        """A process of the load test ended too early."""
        self.processes -= 1
        self.losses.append(f"a process of the load test ended unexpectedly: {message}")

    def finish(self, ends: Sequence[LoadedMessage]) -> LoadFigures:
        """Report the rest, and the end of the load test."""
        for second in sorted(self._waiting):
            self._whole(second)
        figures = self.figures
        figures.seconds = max((end.seconds for end in ends), default=figures.seconds)
        limits = tuple(
            (limit.text, limit.holds(figures), limit.shown(figures))
            for limit in self._load.read_limits
        )
        notes = dict.fromkeys(message for end in ends for message in end.said)
        trouble = "; ".join([*self.losses, *notes, *filter(None, [self._samples.trouble])])
        self._tell(
            LoadFinished(
                seconds=figures.seconds,
                late=self._late,
                unstarted=sum(end.unstarted for end in ends),
                limited=self._limited(),
                limits=limits,
                trouble=trouble,
            )
        )
        return figures

    def _limited(self) -> str:
        """The reason why the generator itself was the bottleneck, if it was."""
        many = max(self._seconds * _OFTEN, 2)
        reasons = []
        if self._busy >= many:
            reasons.append(f"the processor was fully used during {self._busy} of {self._seconds} s")
        if self._lagging >= many:
            reasons.append(
                f"the generator was more than {LAG * 1000:.0f} ms "
                f"late during {self._lagging} of {self._seconds} s"
            )
        return " and ".join(reasons)


NAME = "samples.csv.gz"
COLUMNS = (
    "began_s",
    "user",
    "workflow",
    "step",
    "method",
    "url",
    "status",
    "whole_s",
    "first_byte_s",
    "connect_s",
    "tls_s",
    "sent_bytes",
    "received_bytes",
    "error",
)


class SampleFile:
    """Appends rows.

    Each write is a separate gzip member, so the file of a killed run can be read. After a failed
    write, no other is made, and ``trouble`` gives the reason.
    """

    def __init__(self, folder: Path, *, wanted: bool) -> None:
        self._path = folder / NAME
        self._whole = 0
        self.trouble = ""
        if wanted:
            self.add(",".join(COLUMNS) + "\n")

    def add(self, rows: str) -> None:
        """Append rows of CSV."""
        if not rows or self.trouble:
            return
        try:
            with self._path.open("ab") as file:
                self._whole += file.write(gzip.compress(rows.encode(), 1))
        except OSError as error:
            self.trouble = f"{NAME}: {error}"
            self._cut()

    def _cut(self) -> None:
        try:
            with self._path.open("r+b") as file:
                file.truncate(self._whole)
        except OSError:
            return
