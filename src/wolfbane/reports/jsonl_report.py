"""A run's results as JSON Lines: one object for each result."""

from __future__ import annotations

import msgspec

from wolfbane.results.record import Record


def write_lines(record: Record) -> bytes:
    """One line for each result, UTF-8, as in the journal, in order of completion."""
    return b"".join(msgspec.json.encode(result) + b"\n" for result in record.results)
