"""Guards the console report. It is loaded late, and disabled if it cannot write."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import TYPE_CHECKING

from wolfbane.events.run_events import Event

if TYPE_CHECKING:
    from wolfbane.reports.console.console_report import ConsoleReport

_LATER = 0.005
"""Seconds that the first events of a run wait: by then, its first workers are starting, and the
modules for printing are imported at the same time.
"""


class GuardedConsole:
    """Passes events to the console report that ``make`` loads.

    When printing fails, it calls ``give_up`` with the reason.
    """

    def __init__(self, make: Callable[[], ConsoleReport], give_up: Callable[[str], None]) -> None:
        self._make, self._give_up = make, give_up
        self._report: ConsoleReport | None = None
        self._waiting: list[Event] = []
        self._failed = False

    def __call__(self, event: Event) -> None:
        if self._report is not None:
            self._try(self._report, event)
            return
        self._waiting.append(event)
        if len(self._waiting) == 1:
            try:
                asyncio.get_running_loop().call_later(_LATER, self._show)
            except RuntimeError:  # nothing starts meanwhile
                self._show()

    def close(self) -> None:
        """Print pending output, and remove the live view in any case."""
        self._show()
        if self._report is not None:
            self._try(self._report.close)

    def _show(self) -> None:
        waiting, self._waiting = self._waiting, []
        for event in waiting:
            self._report = self._report or self._make()
            self._try(self._report, event)

    def _try(self, show: Callable[..., None], *event: Event) -> None:
        if self._failed:
            return
        try:
            show(*event)
        except (OSError, ValueError) as error:  # ValueError: the stream was closed
            self._failed = True
            why = "the stream was closed"
            if not isinstance(error, BrokenPipeError):
                why = str(error)
            self._give_up(
                f"cannot write to standard output: {why}; the run continues without console output"
            )
