"""The record of a run: what its events come to."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import orjson

from wolfbane.events import Event, RunFinished, RunStarted, TestFinished
from wolfbane.model import Result

SUMMARY_NAME = "summary.json"
READABLE = orjson.OPT_INDENT_2 | orjson.OPT_APPEND_NEWLINE


@dataclass
class Record:
    """A run's beginning, every result in the order of their ends, and its end."""

    started: RunStarted | None = None
    results: list[Result] = field(default_factory=list)
    finished: RunFinished | None = None


class RecordKeeper:
    """A listener that gathers the record of a run in progress."""

    def __init__(self) -> None:
        self.record = Record()

    def __call__(self, event: Event) -> None:
        if isinstance(event, TestFinished):
            self.record.results.append(event.result)
        elif isinstance(event, RunStarted):
            self.record.started = event
        elif isinstance(event, RunFinished):
            self.record.finished = event

    def write_summary(self, folder: Path) -> None:
        """Write what the run came to, without its results: those are in the journal."""
        summary = {"started": self.record.started, "finished": self.record.finished}
        (folder / SUMMARY_NAME).write_bytes(orjson.dumps(summary, option=READABLE))
