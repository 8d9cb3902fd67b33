"""The complete record of a run as one JSON document."""

from __future__ import annotations

from typing import Any

from wolfbane.results.json_text import readable
from wolfbane.results.record import Record


def write_json(record: Record) -> bytes:
    """The start of the run, every result, and its end, UTF-8."""
    whole: dict[str, Any] = {
        "started": record.started,
        "results": record.results,
        "finished": record.finished,
    }
    if record.load is not None:
        from wolfbane.load.measurements import Measurements  # NumPy takes a while

        whole["load"] = Measurements(record.load).as_data()
    return readable(whole)
