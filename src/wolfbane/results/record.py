"""The record of a run, built from its events."""

from __future__ import annotations

from pathlib import Path

import msgspec

from wolfbane import __version__
from wolfbane.events.load_events import LoadError, LoadFinished, LoadSecond, LoadStarted
from wolfbane.events.run_events import Covered, Event, RunFinished, RunStarted, TestFinished
from wolfbane.model import Result
from wolfbane.results.journal import read_journal
from wolfbane.results.json_text import readable

SUMMARY_NAME = "summary.json"


class LoadRecord(msgspec.Struct):
    """The record of a load test, second by second, and its end."""

    started: LoadStarted | None = None
    seconds: list[LoadSecond] = msgspec.field(default_factory=list)
    errors: list[LoadError] = msgspec.field(default_factory=list)
    finished: LoadFinished | None = None


class Record(msgspec.Struct):
    """The start of a run, its results in order of completion, and its end.

    ``folder`` contains its evidence; ``covered`` are the API operations that it called, ``load``
    the data of a load test.
    """

    started: RunStarted | None = None
    results: list[Result] = msgspec.field(default_factory=list)
    finished: RunFinished | None = None
    covered: list[Covered] = msgspec.field(default_factory=list)
    folder: Path | None = None
    load: LoadRecord | None = None

    @property
    def name(self) -> str:
        """The workspace's name."""
        if self.started:
            return self.started.workspace
        return ""

    @property
    def began(self) -> str:
        """The start of the run as an ISO 8601 time with a zone."""
        if self.started:
            return self.started.began
        return "1970-01-01T00:00:00+00:00"

    @property
    def seconds(self) -> float:
        """The duration of the run."""
        if self.finished:
            return self.finished.seconds
        return 0.0

    @property
    def version(self) -> str:
        """The version of Wolfbane that ran it."""
        if self.started:
            return self.started.version
        return __version__

    @property
    def system(self) -> dict[str, str]:
        """The tested system, as far as known."""
        if self.started is None:
            return {}
        state, targets = self.started.suite_state, self.started.targets
        known = {
            "revision": state.revision,
            "commit": state.commit + ("+" if state.changed else ""),
            "version": ", ".join(filter(None, (each.version for each in targets))),
            "environment": ", ".join(filter(None, (t.label or t.environment for t in targets))),
        }
        return {name: value for name, value in known.items() if value}

    @property
    def reasons(self) -> dict[str, str]:
        """The reasons for quarantined tests, by address."""
        if self.started:
            entries = self.started.quarantined
        else:
            entries = {}
        return {address: entry.because for address, entry in entries.items()}


def read_record(folder: Path) -> Record:
    """The record of a run that has ended or was interrupted. Raises InputError."""
    keeper = RecordKeeper(folder)
    for event in read_journal(folder):
        keeper(event)
    return keeper.record


class RecordKeeper:
    """A listener that collects the record of a run in progress."""

    def __init__(self, folder: Path) -> None:
        self.record = Record(folder=folder)

    def __call__(self, event: Event) -> None:
        if isinstance(event, TestFinished):
            self.record.results.append(event.result)
        elif isinstance(event, RunStarted):
            self.record.started = event
        elif isinstance(event, Covered):
            self.record.covered.append(event)
        elif isinstance(event, RunFinished):
            self.record.finished = event
        elif isinstance(event, LoadStarted):
            self.record.load = LoadRecord(event)
        elif self.record.load is not None:
            self._loaded(self.record.load, event)

    def _loaded(self, load: LoadRecord, event: Event) -> None:
        if isinstance(event, LoadSecond):
            load.seconds.append(event)
        elif isinstance(event, LoadError):
            load.errors.append(event)
        elif isinstance(event, LoadFinished):
            load.finished = event

    def write_summary(self) -> None:
        """Write the start and the end of the run, without its results, which are in the journal."""
        assert self.record.folder is not None
        summary = {"started": self.record.started, "finished": self.record.finished}
        (self.record.folder / SUMMARY_NAME).write_bytes(readable(summary))
