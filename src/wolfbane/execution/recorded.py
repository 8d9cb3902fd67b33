"""Records every event of a session."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from wolfbane.errors import WolfbaneError
from wolfbane.execution.session import Session
from wolfbane.results.journal import Journal
from wolfbane.results.newest import Newest
from wolfbane.results.record import Record, RecordKeeper


class Recorded(msgspec.Struct):
    """The record of a run, and any problems with writing it."""

    record: Record
    problems: list[str] = msgspec.field(default_factory=list)


@contextmanager
def recording(session: Session, folder: Path, newest: Newest | None) -> Iterator[Recorded]:
    """Record the session's events while the context is active. ``newest`` stores its outcomes.

    The journal is written immediately. A full disk stops the journal, but not the run. ``folder``
    is removed if the run cannot start.
    """
    keeper = RecordKeeper(folder)
    recorded = Recorded(keeper.record)
    with Journal(folder) as journal:
        session.listen(keeper)
        session.listen(journal)
        try:
            yield recorded
        except WolfbaneError:
            shutil.rmtree(folder)
            raise
        finally:  # a caller from Python may have stopped to iterate
            if keeper.record.started is not None:
                troubles = [journal.trouble, _tried(keeper.write_summary)]
                if newest is not None:
                    troubles.append(_tried(lambda: newest.take_in(keeper.record.results)))
                warnings = [f"the record of this run is incomplete: {t}" for t in troubles if t]
                recorded.problems += warnings[:1]


def _tried(write: Callable[[], None]) -> str:
    """Write; returns the reason if that failed."""
    try:
        write()
    except OSError as error:
        return str(error)
    return ""
