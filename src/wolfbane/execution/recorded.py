"""Run a session with everything on record."""

from __future__ import annotations

from pathlib import Path

from wolfbane.execution.run import Session
from wolfbane.results.journal import Journal
from wolfbane.results.newest import Newest
from wolfbane.results.record import Record, RecordKeeper


def run_recorded(session: Session, folder: Path, newest: Newest) -> tuple[int, Record]:
    """Run; returns the exit code and the record. The journal is written as things happen.

    Raises NothingChosen, with an empty journal left in ``folder``.
    """
    keeper = RecordKeeper(folder)
    with Journal(folder) as journal:
        session.listen(keeper)
        session.listen(journal)
        try:
            code = session.execute(folder)
        finally:
            newest.take_in(keeper.record.results)
    keeper.write_summary()
    return code, keeper.record
