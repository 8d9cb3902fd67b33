"""The console as one listener among others: where it cannot write, the run goes on without it."""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Callable

from wolfbane.events import Event
from wolfbane.reports.console import ConsoleReport


class GuardedConsole:
    """Passes events on to the console until that fails; says so once, on the error stream."""

    def __init__(self, report: ConsoleReport, complain: Callable[[str], None]) -> None:
        self._report, self._complain = report, complain
        self._failed = False

    def __call__(self, event: Event) -> None:
        self._try(lambda: self._report(event))

    def close(self) -> None:
        """Take the live view away, whatever happened."""
        self._try(self._report.close)

    def _try(self, show: Callable[[], None]) -> None:
        if self._failed:
            return
        try:
            show()
        except (OSError, ValueError) as error:  # ValueError: the stream was closed
            self._failed = True
            leave_standard_output()
            why = "it was closed" if isinstance(error, BrokenPipeError | ValueError) else str(error)
            with contextlib.suppress(OSError, ValueError):
                self._complain(f"nothing more is shown, the run goes on: standard output: {why}")


def leave_standard_output() -> None:
    """Have what is still to be written there go nowhere: it would fail at the program's end."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
