"""Runs a prepared load test, and prints its progress and result."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wolfbane.app.load import carry_out_load, look_at_load
from wolfbane.cli.echo import echo
from wolfbane.cli.running import printed
from wolfbane.reports.console.style import make_console
from wolfbane.reports.load.tables import load_facts

if TYPE_CHECKING:
    from wolfbane.app.ready import ReadyRun
    from wolfbane.load.load_request import LoadRequest


def load_and_print(ready: ReadyRun, load: LoadRequest) -> int:
    """Run a prepared load test, or print a preview; returns the exit code."""
    if ready.request.dry_run:
        console = make_console()
        started, wrong = look_at_load(ready, load)
        console.print(load_facts(started, console.reading_width), soft_wrap=True)
        for workflow, step in started.keys:
            echo(f"  {step}" if step else workflow)
        for address, outcome, message in wrong:
            echo(f"{outcome}  {address}: {message}")
        return 1 if wrong else 0
    return printed(ready, lambda report: carry_out_load(ready, load, report), every=load.every)
