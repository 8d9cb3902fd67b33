"""Runs a prepared run, prints its progress and result, and keeps a browser open on request."""

from __future__ import annotations

import asyncio
import contextlib
import os
import sys
import termios
import tty
from collections.abc import Callable
from typing import TYPE_CHECKING

from wolfbane.app.run import carry_out, plan_run
from wolfbane.browsers.run_browsers import KeptOpen
from wolfbane.cli.streams import echo, leave_standard_output
from wolfbane.reports.console.safe_console import GuardedConsole

if TYPE_CHECKING:
    from wolfbane.app.ready import ReadyRun
    from wolfbane.app.run import RunEnd
    from wolfbane.browsers.run_browsers import Pause
    from wolfbane.events.run_events import EventListener
    from wolfbane.reports.console.console_report import ConsoleReport


def run_and_print(ready: ReadyRun, warned: set[str] | None = None) -> int:
    """Run a prepared run, or print its plan; returns the exit code.

    ``warned`` contains the warnings that earlier runs of the same ``watch`` printed.
    """
    if ready.request.dry_run:
        from wolfbane.reports.console.plan import print_plan
        from wolfbane.reports.console.style import make_console

        console = make_console()
        planned = plan_run(ready)
        print_plan(console, planned.plan, planned.broken, whole_files=planned.whole_files)
        if planned.broken:
            return 1
        return 0
    pause: Pause | None = None
    if ready.request.keep_open:
        pause = wait_for_key
    return printed(ready, lambda report: carry_out(ready, report, pause=pause), warned)


def printed(
    ready: ReadyRun,
    carry: Callable[[EventListener], RunEnd],
    warned: set[str] | None = None,
    every: float = 10.0,
) -> int:
    """Run an action with the console as its listener; returns the exit code."""
    request = ready.request

    def console() -> ConsoleReport:
        from wolfbane.reports.console.console_report import ConsoleReport
        from wolfbane.reports.console.style import make_console

        return ConsoleReport(
            make_console(),
            quiet=request.quiet,
            verbose=request.verbose,
            live=not request.live,
            results=ready.workspace.settings.workspace.results,
            shown=warned,
            every=every,
        )

    report = GuardedConsole(console, _without_console)
    try:
        end = carry(report)
    finally:
        report.close()
    for problem in end.problems:
        echo(f"wolfbane: {problem}", err=True)
    return end.exit_code


def _without_console(message: str) -> None:
    """Continue a run whose console cannot be written; its record and reports are complete."""
    leave_standard_output()
    with contextlib.suppress(OSError):  # the error stream may be no better
        echo(f"wolfbane: {message}", err=True)


def wait_for_key(kept: KeptOpen, go_on: Callable[[], None]) -> None:
    """Print which browser is open, and continue when a key is pressed or the input ends."""
    echo(f"\nBrowser '{kept.browser}' stays open after {kept.test}")
    for name, value in (("page", kept.url), ("driver", kept.driver)):
        if value:
            echo(f"  {name:<7} {value}")
    echo("Press any key to close the browser and continue.")
    loop = asyncio.get_running_loop()

    def pressed() -> None:
        loop.remove_reader(sys.stdin)
        os.read(sys.stdin.fileno(), 1 << 10)
        if modes is not None:
            termios.tcsetattr(sys.stdin, termios.TCSADRAIN, modes)
        go_on()

    modes = None
    if sys.stdin.isatty():
        modes = termios.tcgetattr(sys.stdin)
    try:
        if modes is not None:
            tty.setcbreak(sys.stdin)  # keys come at once, and Ctrl-C still interrupts
        loop.add_reader(sys.stdin, pressed)
    except (OSError, TypeError, ValueError):  # a file, which no loop can wait for, or no input
        go_on()
