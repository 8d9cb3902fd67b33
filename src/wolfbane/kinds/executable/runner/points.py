"""Test points of TAP as the parts of a test."""

from __future__ import annotations

import os

from wolfbane.formats.tap.parser import Point
from wolfbane.kinds.worker.channel import Message


def part(point: Point) -> Message:
    """A point as a part of its test."""
    message: Message = {"name": point.name or f"point {point.number}", "outcome": point.outcome}
    text = "\n".join([point.reason, *point.diagnostics] if point.reason else point.diagnostics)
    if text and (point.outcome != "passed" or point.directive):
        message["message"] = text
    if point.line:
        message.update(file=os.path.abspath(point.file), line=point.line)
    if point.points:
        message["parts"] = [part(inner) for inner in point.points]
    return message
