"""The console report. It shows a run to the user, live or from its record."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from msgspec.structs import replace
from rich.text import Text

from wolfbane.events.load_events import LoadStarted
from wolfbane.events.run_events import (
    Building,
    Collecting,
    Commanded,
    Covered,
    Event,
    Quarantined,
    RunFinished,
    RunStarted,
    Starting,
    TestFinished,
    TestRetried,
)
from wolfbane.model import LIMITS, Outcome, Result, at
from wolfbane.reports.console.failure import (
    one_line,
    part_lines,
    print_blocked,
    print_failures,
    print_flaky,
)
from wolfbane.reports.console.header import header, with_news_only
from wolfbane.reports.console.layout import fitted
from wolfbane.reports.console.matrix import browser_lines, by_browser, command_line
from wolfbane.reports.console.progress import FileLines
from wolfbane.reports.console.quarantine import print_quarantined
from wolfbane.reports.console.repeats import repeat_table
from wolfbane.reports.console.style import Page
from wolfbane.reports.console.summary import (
    again_line,
    came_up_line,
    closing_line,
    coverage_lines,
    handled_lines,
    slowest,
    summary_table,
)
from wolfbane.reports.console.targets import side_by_side
from wolfbane.reports.text import in_line, many, visible

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID

    from wolfbane.reports.load.console_view import LoadView

_TOLD_IN_FULL = {o for o in Outcome if o.is_failure}


class ConsoleReport:
    """Prints the header, the progress, each failure, the summary, and a last line."""

    def __init__(
        self,
        console: Page,
        *,
        quiet: bool = False,
        verbose: bool = False,
        live: bool = True,
        results: str = "",
        shown: set[str] | None = None,
        every: float = 10.0,
    ) -> None:
        """``told`` are the warnings of earlier runs in a series: they are not repeated, and new
        ones are added.

        ``every`` is the interval between the lines of a load test without a live view, in seconds.
        """
        self._console = console
        self._shown = shown
        self._results_folder = results
        self._quiet, self._verbose = quiet, verbose
        on_terminal = console.file.isatty() and not console.is_dumb_terminal  # not only FORCE_COLOR
        self._live = live and on_terminal and not quiet
        self._results: list[Result] = []
        self._files = FileLines()
        self._suites: tuple[str, ...] = ()
        self._targets: tuple[str, ...] = ()
        self._bad: Counter[str] = Counter()
        self._progress: Progress | None = None
        self._bars: dict[str, TaskID] = {}
        self._covered: list[Covered] = []
        self._chosen = 0
        self._came_up: Counter[str] = Counter()
        self._run = ""
        self._held: dict[str, Quarantined] = {}
        self._pointed: tuple[str, ...] = ()
        self._ended = False
        self._every = every
        self._load: LoadView | None = None

    def __call__(self, event: Event) -> None:
        if isinstance(event, TestFinished):
            self._finished(event.result, event.extra)
        elif isinstance(event, RunStarted):
            self._started(event)
        elif isinstance(event, Covered):
            self._covered.append(event)
        elif isinstance(event, RunFinished):
            self._over(event)
        elif isinstance(event, Collecting):
            self._collecting(event)
        elif isinstance(event, Building) and not self._quiet:
            self._show("building   ", f"{visible(event.suite)}: {visible(event.command)}")
        elif isinstance(event, TestRetried):
            self._retried(event.result)
        elif isinstance(event, Commanded):
            self._console.print(command_line(event), soft_wrap=True)
        elif isinstance(event, LoadStarted):
            from wolfbane.reports.load.console_view import LoadView  # NumPy takes a while

            self.close()  # a load has a view of its own
            folder = f"{self._results_folder}/runs/{self._run}"
            self._load = LoadView(
                self._console,
                event,
                folder,
                live=self._live,
                quiet=self._quiet,
                every=self._every,
            )
        elif self._load is not None:
            self._load(event)
        elif isinstance(event, Starting) and not self._quiet:
            text = f"service {visible(at(event.service, event.target))} on port {event.port}"
            text += f" of machine {visible(event.machine)}" if event.machine else ""
            self._show("starting   ", text)

    def close(self) -> None:
        """Remove the live view in any case."""
        if self._load is not None:
            self._load.close()
        if self._progress is not None:
            self._progress.stop()
            self._progress = None

    def _show(self, title: str, text: str, style: str = "dim") -> None:
        self._console.print(Text.assemble((title, style), text), soft_wrap=True)

    def _collecting(self, event: Collecting) -> None:
        if event.file and not self._live and not self._quiet:
            message = f"{in_line(event.file)}, {event.seconds:.0f} s; "
            message += f"{event.done} of {many(event.total, 'file')} loaded"
            self._show("loading    ", message)
        if not self._live or not (event.done or event.file):
            return
        progress = self._bar()
        if "" not in self._bars:
            self._bars[""] = progress.add_task("reading", total=event.total, bad="")
        # Only a file that takes long is named.
        name = f"loading {in_line(event.file)}" if event.file else "reading"
        progress.update(self._bars[""], completed=event.done, description=name)

    def _started(self, event: RunStarted) -> None:
        self.close()
        self._bars.clear()
        self._run = event.run
        self._chosen = event.tests
        self._held = event.quarantined
        self._pointed = event.pointed
        self._files.start(event.files)
        self._suites = tuple(event.suites)
        self._targets = tuple(target.label for target in event.targets)
        if self._shown is not None:
            event = with_news_only(event, self._shown)
        if not self._quiet:
            shown = header(event, self._console.reading_width, verbose=self._verbose)
            self._console.print(shown, soft_wrap=True)
        for warning in event.warnings:
            self._warn(warning)
        if self._quiet:
            return
        self._console.print()
        if self._live:
            progress = self._bar()
            for suite, total in event.suites.items():
                self._bars[suite] = progress.add_task(suite, total=total, bad="")

    def _finished(self, result: Result, extra: bool) -> None:
        self._results.append(result)
        if extra:
            self._came_up[result.path] += 1
        file = self._files.add(result)
        if self._quiet or self._load is not None:
            return
        if self._progress is not None:
            self._bad[result.suite] += result.outcome in _TOLD_IN_FULL
            bad = f"{self._bad[result.suite]} failed" if self._bad[result.suite] else ""
            bar = self._bars[result.suite]
            if extra:
                total = self._progress.tasks[self._progress.task_ids.index(bar)].total
                self._progress.update(bar, total=(total or 0) + 1)
            self._progress.update(bar, advance=1, bad=bad)
            if result.outcome.is_bad or self._verbose:
                self._line(result)
        elif self._verbose:
            self._line(result)
        elif not extra and (line := self._files.after(file)):
            self._console.print(line, soft_wrap=True)

    def _retried(self, result: Result) -> None:
        if self._verbose or self._progress is not None:
            line = one_line(result).append("  will be retried", style="dim")
            self._console.print(line, soft_wrap=True)

    def _line(self, result: Result) -> None:
        self._console.print(one_line(result), soft_wrap=True)
        if self._verbose:
            folder = f"{self._results_folder}/runs/{self._run}"
            for line in part_lines(result.parts, result.evidence, folder):
                self._console.print(line, soft_wrap=True)

    def _over(self, event: RunFinished) -> None:
        self._ended = True
        self.close()
        if not (self._quiet or self._verbose or self._live or self._load is not None):
            for line in self._files.left():
                self._console.print(line, soft_wrap=True)
        folder = f"{self._results_folder}/runs/{self._run}"
        bad = [r for r in self._results if r.outcome.is_bad and r.address not in self._held]
        if self._load is not None:  # broken limits have lines of their own
            bad = [result for result in bad if result.path != LIMITS]
        console, pointed = self._console, self._pointed
        print_failures(console, bad, verbose=self._verbose, folder=folder, pointed=pointed)
        print_blocked(console, self._results, folder, pointed=pointed)
        for result in self._results:
            if result.outcome is Outcome.FLAKY and not self._quiet:
                print_flaky(self._console, result, folder)
        for line in handled_lines(self._results):
            self._console.print(line, soft_wrap=True)
        print_quarantined(self._console, self._results, self._held, lately=event.lately)
        if self._load is not None:
            self._load.print_end(self._covered)
        elif not self._quiet:
            self._summary(event)
        for warning in event.warnings:
            if self._shown is None or warning not in self._shown:
                self._warn(warning)
        if self._shown is not None:
            self._shown.update(event.warnings)
        if len(bad) > 1 and self._load is None:
            self._console.print(again_line(self._run, self._pointed), soft_wrap=True)
        self._console.print(closing_line(event, self._run))

    def _summary(self, event: RunFinished) -> None:
        self._console.print()
        if len(self._targets) > 1:
            width = self._console.width
            counted = [r for r in self._results if r.address not in self._held]
            for part in side_by_side(counted, self._suites, self._targets, width=width):
                self._console.print(part, soft_wrap=isinstance(part, Text))
        else:
            columns = summary_table(self._results, self._suites, self._held)
            for part in fitted(self._console, columns, self._console.width):
                self._console.print(part)
        if repeats := repeat_table(self._results):
            for part in fitted(self._console, repeats, self._console.width):
                self._console.print(part)
        if self._came_up:
            self._console.print(came_up_line(self._chosen, self._came_up))
        for part in by_browser(self._console, self._results):
            self._console.print(part)
        wide = self._console.reading_width
        lines = [browser_lines(event.browsers, wide)] if event.browsers else []
        lines += [coverage_lines(covered, wide) for covered in self._covered]
        for line in lines:
            self._console.print(line)
        slow = slowest(self._results, self._console.reading_width)
        if slow is not None:
            self._console.print(slow, soft_wrap=True)
        if lines or slow is not None or self._came_up:
            self._console.print()

    def _warn(self, warning: str) -> None:
        self._show("warning  ", visible(warning), "bold khaki1")

    def unfinished(self) -> None:
        """Report that the run of a record without an end was interrupted."""
        if self._run and not self._ended:
            counts = Counter(str(r.outcome) for r in self._results if r.path != LIMITS)
            cut = RunFinished(0.0, 130, dict(counts))
            self._over(replace(cut, reason="interrupted: the record of the run has no end"))

    def _bar(self) -> Progress:
        if self._progress is None:
            from wolfbane.reports.console.progress import progress_bars  # only at a terminal

            self._progress = progress_bars(self._console)
            self._progress.start()
        return self._progress
