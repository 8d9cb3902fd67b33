"""The head of a run: what was chosen, where it goes, how it runs."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from wolfbane.events import RunStarted
from wolfbane.reports.layout import facts
from wolfbane.reports.text import many, visible

_MOST_PULLED = 5
_MOST_FILES = 3
_HOW_TO_CLAIM = (
    "These look like tests. To run them, name them in a suite of wolfbane.toml: 'wolfbane init' "
    "writes it, 'wolfbane bridge new' connects another launcher."
)


def _bare(name: str, endings: Sequence[str]) -> str:
    return name.removesuffix(next(filter(name.endswith, endings), ""))


def _files(paths: Sequence[str], *, verbose: bool) -> str:
    """The files by name, if they are few or all are wanted; else how many, and the first ones."""
    if verbose or len(paths) <= _MOST_FILES:
        return ", ".join(paths)
    return f"{many(len(paths), 'file')}: {', '.join(paths[:_MOST_FILES])}, ... (--verbose: all)"


class _Rows:
    """Names and values, in order."""

    def __init__(self) -> None:
        self.found: list[tuple[str, Text]] = []

    def add(self, name: str, value: Text) -> None:
        self.found.append((name, value))


def header(event: RunStarted, width: int, *, verbose: bool = False) -> Text:
    """What was chosen, how it runs, and what was left out and why."""
    rows = _Rows()
    rows.add("workspace", Text(visible(event.workspace), style="bold"))
    suites = many(len(event.suites), "suite")
    labels = [f" @{target.label}" for target in event.targets if target.label]
    files = {_bare(_bare(name, labels), [f" @{b}" for b in event.browsers]) for name in event.files}
    chosen = f"{many(event.tests, 'test')} in {many(len(files), 'file')} of {suites}"
    if event.browsers:
        chosen += f", in {', '.join(event.browsers)}"
    if len(labels) > 1:
        chosen += f", against {len(labels)} environments"
    asked = "" if event.expression == "everything" else f": {visible(event.expression)}"
    rows.add("chosen", Text(chosen + asked))
    for rule, count in event.left_out.items():
        rows.add("left out", Text(f"{count} by {visible(rule)}", style="khaki1"))
    if event.focused:
        places = ", ".join(event.focused[:3]) + (", ..." if len(event.focused) > 3 else "")
        marked = f"{many(len(event.focused), 'test')} marked as the only ones to run: {places}"
        rows.add("focus", Text(visible(marked), style="khaki1"))
    for needed, by in list(event.pulled_in.items())[:_MOST_PULLED]:
        rows.add("pulled in", Text(visible(f"{needed}, needed by {by}"), style="khaki1"))
    if event.without_tests:
        rows.add("no tests in", Text(visible(_files(event.without_tests, verbose=verbose))))
    if event.unclaimed:
        words = _files(event.unclaimed, verbose=verbose)
        rows.add("in no suite", Text(visible(words), style="khaki1"))
        rows.add("", Text(_HOW_TO_CLAIM, style="dim"))
    for folder in event.workspaces:
        words = f"{folder} has settings of its own: wolfbane run --workspace {folder}"
        rows.add("not run", Text(visible(words), style="khaki1"))
    if event.neglected:
        rows.add("no test of", Text(visible(", ".join(event.neglected))))
    for url, words in event.documents.items():
        rows.add("document", Text(visible(f"{url}: {words}")))
    runtimes = ", ".join(dict.fromkeys(event.runtimes.values()))
    title = "against"
    for target in event.targets:
        named = [f"{name}={value}" for name, value in target.parameters.items()]
        label = target.label or target.environment
        said = f"{label}: {', '.join(named)}" if label else ", ".join(named)
        if said:
            rows.add(title, Text(visible(said).removesuffix(": ")))
            title = ""
    shown = "browsers shown" if event.visible else "headless"
    rows.add("how", Text(f"{shown}, {many(event.jobs, 'job')}, {event.order}; {runtimes}"))
    rows.add("run", Text(event.run))
    return facts(rows.found, width)
