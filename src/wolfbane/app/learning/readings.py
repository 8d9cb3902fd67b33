"""What of a trial reads as a report: files that it wrote, or its output."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from fnmatch import fnmatch
from pathlib import Path
from typing import Any

import msgspec

from wolfbane.app.learning.line_patterns import line_patterns
from wolfbane.app.learning.trial import Trial
from wolfbane.formats.reported import FormatError, ReportedTest
from wolfbane.kinds.bridge.runner.reading import ReportReading
from wolfbane.kinds.bridge.tables import ReadTable

_LARGEST = 64 << 20


class Reading(msgspec.Struct, frozen=True):
    """A way to read what a launcher said. ``table`` is the beginning of ``[read]``.

    ``unseen`` are outcomes that no line showed.
    """

    table: Mapping[str, str]
    entries: Sequence[ReportedTest]
    unseen: Sequence[str] = ()

    @property
    def in_words(self) -> str:
        """What is read, for people."""
        place = self.table.get("report") or "what it prints"
        return f"{place} as {self.table['format']}: {len(self.entries)} entries"


def readings(root: Path, trial: Trial, hints: Sequence[str]) -> list[Reading]:
    """Every way to read what a trial left: reports in files come first."""
    return [*_files(root, trial), *_output(trial.output, hints)]


def _files(root: Path, trial: Trial) -> Iterator[Reading]:
    together: dict[tuple[Path, str, str], list[Reading]] = {}
    for path in trial.written:
        place = root / path
        if place.stat().st_size > _LARGEST:
            continue
        data = place.read_bytes()
        for form in _forms(data):
            if entries := read_as({"format": form}, data):
                key = Path(path).parent, form, Path(path).suffix
                found = Reading({"format": form, "report": path}, entries)
                together.setdefault(key, []).append(found)
                break
    for (folder, form, ending), alike in together.items():
        if len(alike) == 1:
            yield alike[0]
            continue
        entries = [entry for each in alike for entry in each.entries]
        yield Reading({"format": form, "report": str(folder / f"*{ending}")}, entries)


def _output(output: str, hints: Sequence[str]) -> Iterator[Reading]:
    data = output.encode()
    for form in ("tap", "events"):
        if form in _forms(data) and (entries := read_as({"format": form}, data)):
            yield Reading({"format": form}, entries)
    patterns = line_patterns(output, hints)
    if patterns is not None:
        table = {"format": "lines", "passed": patterns.passed, "failed": patterns.failed}
        table["skipped"] = patterns.skipped
        yield Reading(table, read_as(table, data), patterns.unseen)


def read_again(
    root: Path, trial: Trial, table: Mapping[str, str], scratch: str
) -> list[ReportedTest]:
    """The entries of another trial, read as those before. ``scratch`` is where reports may be."""
    report = table.get("report", "")
    if not report:
        return read_as(table, trial.output.encode())
    fresh = [root / path for path in trial.written if fnmatch(path, report)]
    places = [*fresh, *(p for p in Path(scratch).iterdir() if fnmatch(p.name, Path(report).name))]
    return [entry for place in places for entry in read_as(table, place.read_bytes())]


def _forms(data: bytes) -> Sequence[str]:
    """The formats that data may be in, by how it begins."""
    head = data[:4096].lstrip()
    if head.startswith(b"<"):
        return ("xunit",)
    if head.startswith(b"{"):
        return ("events",) if _is_event(head) else ("ctrf",)
    return ("tap",) if re.search(rb"^(TAP version|1\.\.\d)", head, re.MULTILINE) else ()


def _is_event(head: bytes) -> bool:
    try:
        return "outcome" in json.loads(head.partition(b"\n")[0])
    except ValueError:
        return False


def read_as(table: Mapping[str, str], data: bytes) -> list[ReportedTest]:
    """The entries of a report; none where it is not in that format.

    TAP of a run of many files may be numbered wrongly, and be right for each of them.
    """
    entries: list[ReportedTest] = []
    whole: dict[str, Any] = msgspec.to_builtins(ReadTable(**table))  # type: ignore[arg-type]
    try:
        reading = ReportReading(whole, entries.append)
        reading.feed(data)
        reading.close()
    except FormatError:
        return entries if table["format"] == "tap" else []
    return entries
