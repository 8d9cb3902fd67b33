"""The progress of a run: a bar, and a line of each file with its outcomes, parts and time."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
from rich.text import Text

from wolfbane.model import Outcome, Part, Result, variant
from wolfbane.reports.console.style import Page, counted
from wolfbane.reports.text import clock, in_line, many


class FileLines:
    """Counts the results of each file until the file is complete."""

    def __init__(self) -> None:
        self._open: dict[str, int] = {}
        self._waiting: Counter[str] = Counter()
        self._by_file: defaultdict[str, Counter[Outcome]] = defaultdict(Counter)
        self._seconds: Counter[str] = Counter()
        self._parts: defaultdict[str, Counter[str]] = defaultdict(Counter)

    def start(self, files: Mapping[str, int]) -> None:
        """Expect this number of results of each file."""
        self._open, self._waiting = dict(files), Counter(files)

    def add(self, result: Result) -> str:
        """Count a result. Returns its file."""
        file = variant(result.path, result.browser, result.target)
        self._by_file[file][result.outcome] += 1
        self._parts[file].update(part_counts(result.parts))
        self._seconds[file] += result.seconds  # type: ignore[assignment]
        return file

    def after(self, file: str) -> Text | None:
        """The line of a file if this planned result was its last one."""
        self._waiting[file] -= 1
        if self._waiting[file]:
            return None
        return self._line(file)

    def left(self) -> Iterator[Text]:
        """The lines of the files that have some of their results."""
        for file in [file for file in self._open if file in self._by_file]:
            yield self._line(file)

    def _line(self, file: str) -> Text:
        del self._open[file]
        line = Text(f"{in_line(file)}  ").append_text(counted(self._by_file[file]))
        if text := parts_in_words(self._parts[file]):
            line.append(f", {text}", style="dim")
        return line.append(f"  {clock(self._seconds[file])}", style="dim")


def part_counts(parts: Iterable[Part]) -> Counter[str]:
    """The number of parts, and how many of them were skipped."""
    counts: Counter[str] = Counter()
    for part in parts:
        counts["parts"] += 1
        counts["skipped"] += part.outcome is Outcome.SKIPPED
    return counts


def parts_in_words(counts: Mapping[str, int]) -> str:
    """``3 parts (2 skipped)``; empty if there are none."""
    if not counts.get("parts"):
        return ""
    skipped = ""
    if counts.get("skipped"):
        skipped = f" ({counts['skipped']} skipped)"
    return many(counts["parts"], "part") + skipped


def progress_bars(console: Page) -> Progress:
    """Progress bars that disappear at the end: a title, the progress, and the failures."""
    return Progress(
        TextColumn("{task.description}", style="bold"),
        BarColumn(bar_width=30, complete_style="dark_cyan", finished_style="dark_cyan"),
        MofNCompleteColumn(),
        TextColumn("{task.fields[bad]}", style="mark"),
        console=console,
        transient=True,
    )
