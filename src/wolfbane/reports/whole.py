"""A run's whole record as one JSON document."""

from __future__ import annotations

from wolfbane.results.json_text import readable
from wolfbane.results.record import Record


def write_json(record: Record) -> bytes:
    """What was started, every result, and how it ended, UTF-8."""
    whole = {"started": record.started, "results": record.results, "finished": record.finished}
    return readable(whole)
