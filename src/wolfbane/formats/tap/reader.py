"""TAP as a report of tests: each point of the outermost stream is one."""

from __future__ import annotations

from collections.abc import Iterable

import yaml

from wolfbane.formats.reported import FormatError, ReportedTest
from wolfbane.formats.tap.parser import Point, TapReader
from wolfbane.model import Outcome, Part

_OURS = {str(outcome): outcome for outcome in Outcome}


def read_tap(lines: Iterable[str]) -> tuple[list[ReportedTest], str]:
    """The tests of a stream, and why there are no more: ``Bail out!``, or an incomplete stream.

    Raises FormatError if the document is not TAP.
    """
    reader = TapReader()
    for line in lines:
        reader.feed(line)
    document = reader.finish()
    if not document.seen_any:
        raise FormatError("is not TAP: it contains no plan and no points")
    entries = [entry_of(point) for point in document.points]
    if document.bail_out is not None:
        return entries, f"bailed out: {document.bail_out}".rstrip(": ")
    return entries, f"incomplete: {document.problems[0]}" if document.problems else ""


def entry_of(point: Point) -> ReportedTest:
    """A point as a test, with its subtest as parts and the data of its YAML block."""
    details = _details(point.diagnostics)
    outcome = _OURS.get(str(details.get("outcome", "")), Outcome(point.outcome))
    message = str(details.get("message", "") or point.reason)
    comments = "\n".join(line for line in point.diagnostics if line.startswith("#"))
    if not message and outcome.is_bad:
        message = comments.lstrip("# ").partition("\n")[0]
    tags = details.get("tags")
    return ReportedTest(
        name=point.name,
        outcome=outcome,
        file=point.file,
        line=point.line,
        seconds=_seconds(details),
        message=message,
        detail=comments,
        properties=tuple(("tag", str(tag)) for tag in (tags if isinstance(tags, list) else ())),
        parts=tuple(parts_of(point.points)),
        address=point.name if "outcome" in details and "duration_ms" in details else "",
        quarantined=str(details.get("quarantined", "")),
    )


def parts_of(points: Iterable[Point]) -> Iterable[Part]:
    """Points of a subtest as parts."""
    for point in points:
        message = point.reason or "\n".join(point.diagnostics)
        inner = tuple(parts_of(point.points))
        yield Part(
            name=point.name,
            outcome=Outcome(point.outcome),
            message=message,
            seconds=0.0,
            file=point.file,
            line=point.line,
            parts=inner,
        )


def _details(diagnostics: list[str]) -> dict[str, object]:
    """The YAML block of a point; empty if it is invalid."""
    text = "\n".join(line for line in diagnostics if not line.startswith("#"))
    try:
        details = None
        if text:
            details = yaml.safe_load(text)
    except (yaml.YAMLError, RecursionError):
        return {}
    if isinstance(details, dict):
        return details
    return {}


def _seconds(details: dict[str, object]) -> float:
    value = details.get("duration_ms", 0)
    if isinstance(value, int | float):
        return float(value) / 1000
    return 0.0
