"""The console as one listener among others: where it cannot write, the run goes on without it."""

from __future__ import annotations

from collections.abc import Callable

from wolfbane.events import Event
from wolfbane.reports.console import ConsoleReport


class GuardedConsole:
    """Passes events on to the console; once that fails, it calls ``give_up`` with the reason."""

    def __init__(self, report: ConsoleReport, give_up: Callable[[str], None]) -> None:
        self._report, self._give_up = report, give_up
        self._failed = False

    def __call__(self, event: Event) -> None:
        self._try(self._report, event)

    def close(self) -> None:
        """Take the live view away, whatever happened."""
        self._try(self._report.close)

    def _try(self, show: Callable[..., None], *event: Event) -> None:
        if self._failed:
            return
        try:
            show(*event)
        except (OSError, ValueError) as error:  # ValueError: the stream was closed
            self._failed = True
            why = "it was closed" if isinstance(error, BrokenPipeError) else str(error)
            self._give_up(f"nothing more is shown, the run goes on: standard output: {why}")
