"""Finds the report of a trial, in the files that it wrote or in its output."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from fnmatch import fnmatch
from pathlib import Path
from typing import Any

import msgspec

from wolfbane.app.bridges.trial import Trial
from wolfbane.formats.reported import FormatError, ReportedTest
from wolfbane.kinds.bridge.learning.event_keys import event_table
from wolfbane.kinds.bridge.learning.line_frames import Parts
from wolfbane.kinds.bridge.learning.line_patterns import line_patterns
from wolfbane.kinds.bridge.learning.source_patterns import common_start
from wolfbane.kinds.bridge.learning.vocabulary import Vocabulary
from wolfbane.kinds.bridge.runner.reading import ReportReading
from wolfbane.kinds.bridge.tables import ReadTable
from wolfbane.model import Outcome

_LARGEST = 64 << 20
_LARGEST_TEXT = 1 << 20
_PRINTED = ("tap", "events")
"""Formats that a launcher prints without other output."""


class Reading(msgspec.Struct, frozen=True):
    """A way to read a launcher's report. ``table`` is the start of ``[read]``.

    ``unseen`` are outcomes that no line showed.
    """

    table: Mapping[str, Any]
    entries: Sequence[ReportedTest]
    unseen: Sequence[str] = ()

    @property
    def in_words(self) -> str:
        """The name of the source that is read."""
        source = self.table.get("report") or "its output"
        return f"{source} as {self.table['format']}: {len(self.entries)} entries"

    def with_failed(self, pattern: str) -> Reading:
        """The reading with a pattern for failures, which were not seen before."""
        unseen = [outcome for outcome in self.unseen if outcome != "failed"]
        return msgspec.structs.replace(self, table={**self.table, "failed": pattern}, unseen=unseen)


class Clues(msgspec.Struct, frozen=True):
    """What is known about the output: texts that may be the name of a test, the words for
    outcomes, and parts of lines.
    """

    names: Sequence[str]
    vocabulary: Vocabulary
    parts: Parts


def readings(root: Path, trial: Trial, clues: Clues) -> list[Reading]:
    """All ways to read the output of a trial: report files first."""
    return [
        *_files(root, trial, clues),
        *_output(root, trial, clues),
        *_text_files(root, trial, clues),
    ]


def _files(root: Path, trial: Trial, clues: Clues) -> Iterator[Reading]:
    """Report files. Several of one folder and one format are read together."""
    together: dict[tuple[Path, str, str], list[Reading]] = {}
    for path in trial.written:
        file = root / path
        if file.stat().st_size > _LARGEST:
            continue
        data = file.read_bytes()
        for table in _tables(data, clues):
            if entries := read_as(table, data):
                key = Path(path).parent, str(table), Path(path).suffix
                reading = Reading({**table, "report": path}, entries)
                together.setdefault(key, []).append(reading)
                break
    for (folder, _, ending), alike in together.items():
        if len(alike) == 1:
            yield alike[0]
            continue
        entries = [entry for each in alike for entry in each.entries]
        table = {**alike[0].table, "report": str(folder / f"*{ending}")}
        yield Reading(table, entries)


def _text_files(root: Path, trial: Trial, clues: Clues) -> Iterator[Reading]:
    """Files with lines that name the test, such as logs."""
    for path in trial.written:
        file = root / path
        if file.stat().st_size <= _LARGEST_TEXT:
            yield from _lines(file.read_bytes(), {"report": path}, clues, root=root)


def _output(root: Path, trial: Trial, clues: Clues) -> Iterator[Reading]:
    for table in _tables(trial.printed, clues):
        if table["format"] in _PRINTED and (entries := read_as(table, trial.printed)):
            yield Reading(table, entries)
    yield from _lines(trial.output.encode(), {}, clues, root=root)


def _lines(data: bytes, keys: Mapping[str, str], clues: Clues, root: Path) -> Iterator[Reading]:
    """The lines of the output, or of a text file."""
    try:
        text = data.decode()
    except UnicodeDecodeError:
        return
    for patterns in dict.fromkeys(
        line_patterns(text, clues.names, clues.vocabulary, root=root, parts=clues.parts)
    ):
        lines = {"format": "lines", **keys, "passed": patterns.passed, "failed": patterns.failed}
        lines["skipped"] = patterns.skipped
        yield Reading(lines, read_as(lines, data), patterns.unseen)


def with_failed_line(
    reading: Reading, everything: Trial, failed: Trial, clues: Clues, root: Path
) -> Reading | None:
    """The reading with a pattern for the line of a failure, which only ``failed`` shows; or None.

    The lines of ``everything``, in which no test failed, must mean what they meant before, and the
    name must be one of theirs.
    """
    if reading.table["format"] != "lines" or reading.table.get("report"):
        return None
    known = {entry.name for entry in reading.entries}
    both = f"{everything.output}\n{failed.output}".encode()
    for other in _lines(both, {}, clues, root=root):
        learnt = reading.with_failed(other.table["failed"])
        same = read_as(learnt.table, everything.output.encode()) == list(reading.entries)
        entries = read_as(learnt.table, failed.output.encode())
        bad = [entry for entry in entries if entry.outcome is Outcome.FAILED]
        if same and any(entry.name in known for entry in bad):
            return learnt
    return None


def with_changing_name(reading: Reading, written: Sequence[str]) -> Reading:
    """The reading with a glob for its report, if another start gave the report another name.

    ``written`` are the files of the other start. The names may have a number or a date.
    """
    report = Path(reading.table.get("report", ""))
    if not report.name or "*" in report.name or any(fnmatch(p, str(report)) for p in written):
        return reading
    others = [Path(path).name for path in written if _is_alike(Path(path), report)]
    if not others:
        return reading
    names = [report.name, *others]
    start = common_start(names)
    end = common_start([name[len(start) :][::-1] for name in names])[::-1]
    start, end = start.rstrip("0123456789"), end.lstrip("0123456789")
    table = {**reading.table, "report": str(report.parent / f"{start}*{end}")}
    return msgspec.structs.replace(reading, table=table)


def _is_alike(path: Path, report: Path) -> bool:
    """Whether a file has the place and the name of a report, except for digits and letters."""
    same = path.parent == report.parent and path.suffix == report.suffix
    return same and common_start([path.name, report.name]) != ""


def read_again(
    root: Path, trial: Trial, table: Mapping[str, Any], scratch: str
) -> list[ReportedTest]:
    """The entries of another trial, read in the same way. ``scratch`` is the folder for reports."""
    report = table.get("report", "")
    if not report:
        lines = table["format"] == "lines"
        return read_as(table, trial.output.encode() if lines else trial.printed)
    fresh = [root / path for path in trial.written if fnmatch(path, report)]
    apart = Path(scratch).iterdir() if scratch else ()
    places = [*fresh, *(file for file in apart if fnmatch(file.name, Path(report).name))]
    return [entry for file in places for entry in read_as(table, file.read_bytes())]


def _tables(data: bytes, clues: Clues) -> Iterator[dict[str, Any]]:
    """The possible starts of ``[read]`` for data that may be a report."""
    if (events := event_table(data, clues.names, clues.vocabulary)) is not None:
        yield events
    yield from ({"format": form} for form in _forms(data))


def _forms(data: bytes) -> Sequence[str]:
    """The possible formats of the data, judged by its first characters."""
    head = data[:4096].lstrip()
    if head.startswith(b"<"):
        return ("xunit",)
    if head.startswith(b"{"):
        return ("ctrf",)
    if re.search(rb"^(TAP version|1\.\.\d)", head, re.MULTILINE):
        return ("tap",)
    return ()


def read_as(table: Mapping[str, Any], data: bytes) -> list[ReportedTest]:
    """The entries of a report; none if the data is not in that format.

    TAP of a run of many files may have wrong numbers, and still be correct for each file.
    """
    entries: list[ReportedTest] = []
    whole: dict[str, Any] = msgspec.to_builtins(msgspec.convert(dict(table), ReadTable))
    try:
        reading = ReportReading(whole, entries.append)
        reading.feed(data)
        reading.close()
    except FormatError:
        if table["format"] == "tap":
            return entries
        return []
    return entries
