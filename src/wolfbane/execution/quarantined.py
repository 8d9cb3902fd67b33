"""Finds the quarantined tests of a run."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

from wolfbane.events.run_events import Quarantined
from wolfbane.model import Test
from wolfbane.results.quarantine import Quarantine


def quarantined_in(
    quarantine: Quarantine, tests: Iterable[Test], today: date
) -> dict[str, Quarantined]:
    """The quarantined tests among these, by address, with the reason and the end date."""
    if not quarantine.entries:
        return {}
    quarantined = {}
    for test in tests:
        if entry := quarantine.entry(test):
            quarantined[test.address] = Quarantined(
                entry.because,
                entry.days(today),
                entry.until.isoformat() if entry.until else "",
                entry.owner,
                entry.ticket,
                over=entry.is_over(today),
            )
    return quarantined
