"""The header of a run: the selection, the environments, and how the tests run."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence

from msgspec.structs import replace
from rich.text import Text

from wolfbane.events.run_events import RunStarted, SuiteState
from wolfbane.reports.console.layout import facts
from wolfbane.reports.text import many, visible
from wolfbane.workspace.git import SHORT, shown_revision

_MOST_PULLED = 5
_MOST_FILES = 3


def _bare(name: str, endings: Sequence[str]) -> str:
    return name.removesuffix(next(filter(name.endswith, endings), ""))


def _files(paths: Sequence[str], *, verbose: bool) -> str:
    """The files by name, if they are few or all are wanted; otherwise, their number and the first
    ones.
    """
    if verbose or len(paths) <= _MOST_FILES:
        return ", ".join(paths)
    return f"{many(len(paths), 'file')}: {', '.join(paths[:_MOST_FILES])}, ... (--verbose: all)"


_PROCESSES = {
    "file": "one process for each file",
    "suite": "one process for the whole suite, files in the order of their names",
    "shared": "files share a process",
}
Row = tuple[str, Text]


def header(event: RunStarted, width: int, *, verbose: bool = False) -> Text:
    """The selected tests, how they run, and the excluded tests with reasons."""
    rows = [("workspace", Text(visible(event.workspace), style="bold"))]
    rows += _chosen(event)
    rows += _left_out(event, verbose=verbose)
    rows += (("document", Text(visible(f"{u}: {source}"))) for u, source in event.documents.items())
    if share := event.share:
        source = f"{share.number} of {share.of}: {event.tests:,} of {many(share.whole, 'test')}"
        rows.append(("share", Text(f"{source}, divided by {share.cut_by}")))
    rows += _suites(event.suite_state)
    rows += _environments(event)
    if event.passed_on:
        source = f"{shlex.join(event.passed_on)}  passed to {', '.join(event.options_for)}"
        rows.append(("options", Text(visible(source))))
    runtimes = ", ".join(dict.fromkeys(event.runtimes.values()))
    rows.append(("how", Text(f"{how_it_runs(event)}; {runtimes}")))
    for suite, what in event.processes.items():
        source = f"{suite}: {_PROCESSES[what]}"
        rows.append(("process", Text(visible(source))))
    for suite in event.unseen:
        source = f"{suite}: tests of the launcher that were not found do not run (run.names.omit)"
        rows.append(("not found", Text(visible(source))))
    if event.on:
        rows.append(("on", Text(visible(f"the machines of cluster {event.on}"))))
    if event.live:
        rows.append(("live", Text("the test uses this terminal and has no time limit")))
    rows.append(("run", Text(event.run)))
    return facts(rows, width)


def how_it_runs(event: RunStarted) -> str:
    """Headless or not, number of jobs, and the order; for a load test only the jobs."""
    jobs = f"{many(event.jobs, 'job')}{' on each machine' * bool(event.on)}"
    if not event.jobs:
        jobs = "one job per thread of each machine"
    if not event.order:
        return jobs
    return f"{'visible browsers' if event.visible else 'headless'}, {jobs}, {event.order}"


def _chosen(event: RunStarted) -> Iterator[Row]:
    """How many tests, files and suites, in which browsers and environments."""
    labels = [f" @{target.label}" for target in event.targets if target.label]
    files = {_bare(_bare(name, labels), [f" @{b}" for b in event.browsers]) for name in event.files}
    suites = many(len(event.suites), "suite")
    chosen = f"{many(event.tests, 'test')} in {many(len(files), 'file')} of {suites}"
    if event.browsers:
        chosen += f", in {', '.join(event.browsers)}"
    if len(labels) > 1:
        chosen += f", in {len(labels)} environments"
    selection = ""
    if event.expression != "everything":
        selection = f": {visible(event.expression)}"
    yield "selected", Text(chosen + selection)
    if event.neglected:
        names = visible(", ".join(event.neglected))
        yield "", Text(f"{many(len(event.neglected), 'suite')} without selected tests: {names}")


def _left_out(event: RunStarted, *, verbose: bool) -> Iterator[Row]:
    """The tests that do not run, with reasons, and the tests that run because a selected test needs
    them.
    """
    for rule, count in event.left_out.items():
        yield "left out", Text(f"{count} by {visible(rule)}", style="khaki1")
    if event.focused:
        places = ", ".join(event.focused[:3]) + (", ..." if len(event.focused) > 3 else "")
        marked = f"{many(len(event.focused), 'test')} marked as the only ones to run: {places}"
        yield "focus", Text(visible(marked), style="khaki1")
    for needed, by in list(event.pulled_in.items())[:_MOST_PULLED]:
        yield "also runs", Text(visible(f"{needed}, because {by} needs it"), style="khaki1")
    if event.without_tests:
        yield "no tests in", Text(visible(_files(event.without_tests, verbose=verbose)))
    if event.unclaimed:
        files = _files(event.unclaimed, verbose=verbose)
        yield "in no suite", Text(visible(files), style="khaki1")
        for advice in event.to_claim:
            yield "", Text(visible(advice), style="dim")
    if event.untraced:
        from wolfbane.inventory.untraced import untraced_words  # few runs have such files

        files = untraced_words(event.untraced, whole=verbose)
        yield "changed", Text(visible(files), style="khaki1")
    for folder in event.workspaces:
        files = f"{folder} is a separate workspace; run it with: wolfbane run --workspace {folder}"
        yield "not run", Text(visible(files), style="khaki1")


def _suites(state: SuiteState) -> Iterator[Row]:
    """The revision of the suites, if it is not the current working copy."""
    if state.revision:
        revision = f"at {shown_revision(state.revision, state.commit)}"
        if state.revision != state.commit:
            revision += f" (commit {state.commit[:SHORT]})"
        revision += f"; {state.settings}"
        yield "suites", Text(visible(f"{revision}; environments from the current workspace"))


def _environments(event: RunStarted) -> Iterator[Row]:
    """Each environment with its parameters, below one title."""
    title = "environment"
    for target in event.targets:
        named = [f"{name}={value}" for name, value in target.parameters.items()]
        label = target.label or target.environment
        if label:
            text = f"{label}: {', '.join(named)}"
        else:
            text = ", ".join(named)
        if text:
            yield title, Text(visible(text).removesuffix(": "))
            title = ""
        if target.version:
            if label:
                there = f"{label}: {target.version}"
            else:
                there = target.version
            known = ""
            if target.revision != target.version:
                known = f" (revision {target.revision})"
            yield "version", Text(visible(f"{there}{known}"))
            title = "environment"


def with_news_only(event: RunStarted, seen: set[str]) -> RunStarted:
    """A run's start without earlier warnings, and without the suites that are not in it."""

    def news(warnings: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(each for each in warnings if each not in seen)

    shown = replace(
        event,
        neglected=(),
        warnings=news(event.warnings),
        unclaimed=news(event.unclaimed),
        without_tests=news(event.without_tests),
        workspaces=news(event.workspaces),
    )
    seen.update(event.warnings, event.unclaimed, event.without_tests, event.workspaces)
    return shown
