"""What runs leave behind: a journal each, and the newest outcome of every test."""

from wolfbane.results.journal import Journal, read_journal
from wolfbane.results.newest import Newest
from wolfbane.results.record import Record, RecordKeeper, read_record
from wolfbane.results.runs import find_run, new_run

__all__ = [
    "Journal",
    "Newest",
    "Record",
    "RecordKeeper",
    "find_run",
    "new_run",
    "read_journal",
    "read_record",
]
