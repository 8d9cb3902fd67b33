"""Run a session with everything on record."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from wolfbane.execution.session import Session
from wolfbane.results.journal import Journal
from wolfbane.results.newest import Newest
from wolfbane.results.record import Record, RecordKeeper


def run_recorded(session: Session, folder: Path, newest: Newest) -> tuple[int, Record, str]:
    """Run; returns the exit code, the record, and what of it could not be written.

    The journal is written as things happen; a full disk stops that, and not the run.

    Raises NothingChosen, with an empty journal left in ``folder``.
    """
    keeper = RecordKeeper(folder)
    with Journal(folder) as journal:
        session.listen(keeper)
        session.listen(journal)
        try:
            code = session.execute(folder)
        finally:
            troubles = [journal.trouble, _tried(lambda: newest.take_in(keeper.record.results))]
    troubles.append(_tried(keeper.write_summary))
    told = [f"the record of this run is not whole: {trouble}" for trouble in troubles if trouble]
    return code, keeper.record, told[0] if told else ""


def _tried(write: Callable[[], None]) -> str:
    """Write; why that could not be done, or nothing."""
    try:
        write()
    except OSError as error:
        return str(error)
    return ""
