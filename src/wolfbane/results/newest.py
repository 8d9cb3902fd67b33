"""The newest outcome and duration of every test that was ever run here."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterable
from pathlib import Path

from wolfbane.model import Outcome, Result
from wolfbane.results.files import write_whole

NAME = "newest.json"


def _bad_first(outcome: Outcome) -> tuple[bool, bool]:
    return not outcome.is_bad, outcome is not Outcome.BLOCKED


class Newest:
    """``status`` and ``times`` (seconds) by address, from all recorded runs.

    Of a test that ran against several environments the worst is kept under its plain address.
    """

    def __init__(self, folder: Path) -> None:
        self._path = folder / NAME
        self.status: dict[str, str] = {}
        self.times: dict[str, float] = {}
        with contextlib.suppress(OSError, ValueError, AttributeError, TypeError):
            for address, (outcome, seconds) in json.loads(self._path.read_bytes()).items():
                self.status[address] = outcome
                self.times[address] = seconds

    def take_in(self, results: Iterable[Result]) -> None:
        """Add the results of a run, and write the file in one step."""
        worst: dict[str, Outcome] = {}
        for result in results:
            self.status[result.address] = str(result.outcome)
            self.times[result.address] = result.seconds
            if result.target:
                bare = result.address.removesuffix(f" @{result.target}")
                worst[bare] = min(worst.get(bare, result.outcome), result.outcome, key=_bad_first)
                self.times[bare] = result.seconds
        self.status.update({address: str(outcome) for address, outcome in worst.items()})
        data = {address: [self.status[address], self.times[address]] for address in self.status}
        write_whole(self._path, json.dumps(data, separators=(",", ":")))
