"""The journal: every event of a run as one line of JSON, written immediately."""

from __future__ import annotations

import contextlib
import fcntl
import time
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType

import msgspec

from wolfbane import __version__
from wolfbane.basis.files import read_regular
from wolfbane.basis.units import bytes_shown
from wolfbane.errors import InputError, Problem
from wolfbane.events.run_events import Collecting, Event, TestFinished, TestRepeated, TestRetried
from wolfbane.results.foreign import evidence_problem

JOURNAL_NAME = "journal.jsonl"


class Journal:
    """A listener that appends each event to the run's journal and flushes it.

    It is locked while the run is in progress, however the run ends.

    After a line could not be written, no other is written, and ``trouble`` gives the reason.
    """

    def __init__(self, folder: Path) -> None:
        self._file = (folder / JOURNAL_NAME).open("ab", buffering=0)
        self._whole = self._file.tell()
        with contextlib.suppress(OSError):  # some file systems have no locks
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        self.trouble = ""

    def __enter__(self) -> Journal:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._file.close()

    def __call__(self, event: Event) -> None:
        if not self.trouble and not isinstance(event, Collecting):
            self._append(msgspec.json.encode(event) + b"\n")

    def _append(self, line: bytes) -> None:
        """Write a complete line or nothing: a full disk may accept a part of one."""
        rest = line
        try:
            while rest:
                rest = rest[self._file.write(rest) :]
            self._whole += len(line)
        except OSError as error:
            self.trouble = str(error)
            with contextlib.suppress(OSError):
                self._file.truncate(self._whole)


def goes_on(folder: Path) -> bool:
    """Whether a run is still writing its journal there, or has not started it yet."""
    try:
        with (folder / JOURNAL_NAME).open("rb") as file:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except FileNotFoundError:  # it begins, or was killed before its journal did
        return time.time() - folder.stat().st_mtime < _BEGINS_WITHIN
    except OSError:
        return False
    return False


_BEGINS_WITHIN = 3600.0
"""Seconds that a run may build and collect before its journal starts."""


_LARGEST = 2_000_000_000
"""Bytes of a journal. A run of a million tests with long messages needs less."""


def read_journal(folder: Path) -> Iterator[Event]:
    """The events of a run, without an incomplete last line. Raises InputError."""
    path = folder / JOURNAL_NAME
    try:
        if path.stat().st_size > _LARGEST:
            reason = f"the record is larger than {bytes_shown(_LARGEST)}"
            raise InputError(Problem(reason, str(path)))
        lines = read_regular(path).split(b"\n")
    except OSError as error:
        raise InputError(Problem(f"cannot read the file: {error}", str(path))) from None
    *whole, _cut_short = lines
    decoder: msgspec.json.Decoder[Event] = msgspec.json.Decoder(Event)
    for number, line in enumerate(whole, 1):
        try:
            event = decoder.decode(line)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            message = f"not an event: {error}"
            raise InputError(
                Problem(message=message, file=str(path), line=number, hint=_newer(whole[0]))
            ) from None
        if isinstance(event, TestFinished | TestRetried | TestRepeated):
            problem = evidence_problem(event.result)
            if problem:
                raise InputError(Problem(problem, str(path), number))
        yield event


def _newer(first: bytes) -> str:
    """Whether another version of Wolfbane wrote the record."""
    try:
        version = msgspec.json.decode(first).get("version", __version__)
    except (msgspec.DecodeError, ValueError, AttributeError, RecursionError):
        return ""
    same = version == __version__
    if same:
        return ""
    return f"the record was written by Wolfbane {version}; this is Wolfbane {__version__}"
