"""A run's results as JSON Lines: one object for each result."""

from __future__ import annotations

import orjson

from wolfbane.results.record import Record


def write_lines(record: Record) -> bytes:
    """A line for each result, UTF-8, as the journal has it; in the order of their ends."""
    lines = [orjson.dumps(result, option=orjson.OPT_APPEND_NEWLINE) for result in record.results]
    return b"".join(lines)
