"""The newest outcome and duration of every test that was ever run here."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterable
from pathlib import Path

from wolfbane.model import Result
from wolfbane.results.files import write_whole

NAME = "newest.json"


class Newest:
    """``status`` and ``times`` (seconds) by address, from all recorded runs."""

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
        for result in results:
            self.status[result.address] = str(result.outcome)
            self.times[result.address] = result.seconds
        data = {address: [self.status[address], self.times[address]] for address in self.status}
        write_whole(self._path, json.dumps(data, separators=(",", ":")))
