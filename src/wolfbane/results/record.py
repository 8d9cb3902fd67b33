"""The record of a run: what its events come to."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cache
from pathlib import Path

from pydantic import TypeAdapter

from wolfbane.events import Event, RunFinished, RunStarted, TestFinished
from wolfbane.model import Result

SUMMARY_NAME = "summary.json"


@dataclass
class Record:
    """A run's beginning, every result in the order of their ends, and its end."""

    started: RunStarted | None = None
    results: list[Result] = field(default_factory=list)
    finished: RunFinished | None = None


@cache
def record_adapter() -> TypeAdapter[Record]:
    """Reads and writes a record as JSON; made when it is first needed, for that takes a while."""
    return TypeAdapter(Record)


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
        summary = Record(self.record.started, [], self.record.finished)
        data = record_adapter().dump_json(summary, indent=2, exclude={"results"})
        (folder / SUMMARY_NAME).write_bytes(data + b"\n")
