"""A run's whole record as one JSON document."""

from __future__ import annotations

import orjson

from wolfbane.results.record import READABLE, Record


def write_json(record: Record) -> bytes:
    """What was started, every result, and how it ended, UTF-8."""
    whole = {"started": record.started, "results": record.results, "finished": record.finished}
    return orjson.dumps(whole, option=READABLE)
