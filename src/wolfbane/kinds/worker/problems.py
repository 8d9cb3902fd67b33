"""Converts an exception to recorded data, and combines all events of a test into one outcome."""

from __future__ import annotations

import os
import traceback
import unittest

from wolfbane.kinds.worker.channel import Message
from wolfbane.kinds.worker.located_error import LocatedError

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any, List, Tuple, Type

_KINDS = os.path.dirname(os.path.dirname(os.path.abspath(__file__))) + os.sep
_STEPS = os.path.join(os.path.dirname(os.path.dirname(_KINDS)), "steps.py")
_SEVERITY = ("passed", "skipped", "todo", "failed", "errored")


def verdict_of(news: List[Message], parts: List[Message]) -> Message:
    """One outcome for a test from all its reports: the worst, first reported."""
    if len(news) == 1 and news[0]["outcome"] == "passed":
        return news[0]  # by far the most
    if not news:
        skipped = bool(parts) and all(part["outcome"] == "skipped" for part in parts)
        return {"outcome": "skipped" if skipped else "passed"}
    verdict = dict(max(news, key=lambda item: _SEVERITY.index(item["outcome"])))
    first = next((n for n in news if n["outcome"] in ("failed", "errored")), None)
    if first is not None:
        verdict = {**first, "outcome": verdict["outcome"]}
        others = [n for n in news if n is not first and n["outcome"] in ("failed", "errored")]
        for other in others[:20]:
            verdict["message"] += f"\n\nand later: {other['message']}"
            verdict["trace"] += f"\n{other['trace']}"
    return verdict


def subtest_name(subtest: Any) -> str:
    """The name of a subtest as its author gave it: its message, or otherwise its parameters."""
    message = getattr(subtest, "_message", None)
    if isinstance(message, str) and not getattr(subtest, "params", None):
        return message
    describe = getattr(subtest, "_subDescription", None)
    try:
        if callable(describe):
            return str(describe())
        return str(subtest)
    except Exception as broken:  # a part may have passed whose parameters cannot be shown
        return f"(its parameters raised {type(broken).__name__})"


def problem_of(error: BaseException, outcome: str = "errored") -> Message:
    """The recorded data of an exception: its message, frames of the suite, full stack trace."""
    if isinstance(error, unittest.SkipTest):
        return {"outcome": "skipped", "message": str(error)}
    kind: Type[BaseException] = type(error)
    try:
        text = str(error)
    except Exception as broken:
        text = f"<its text raised {type(broken).__name__}>"
    if text:
        message = f"{kind.__name__}: {text}"
    else:
        message = kind.__name__
    if text and (kind is AssertionError or isinstance(error, LocatedError)):
        message = text
    frames = [
        {"file": frame.filename, "line": frame.lineno, "function": frame.name}
        for frame, number in _frames(error)
    ]
    if isinstance(error, LocatedError):
        file, line = error.location
        frames = [{"file": file, "line": line, "function": "example"}]
        return {"outcome": outcome, "message": text, "frames": frames, "trace": text}
    try:
        trace = "".join(traceback.format_exception(kind, error, error.__traceback__))
    except Exception:
        trace = message
    return {"outcome": outcome, "message": message, "frames": frames, "trace": trace}


def _frames(error: BaseException) -> List[Tuple[Any, int]]:
    """Stack frames from the test on, without those of the runner and the standard classes."""
    steps = list(traceback.walk_tb(error.__traceback__))
    summary = traceback.StackSummary.extract(iter(steps), lookup_lines=False)
    kept = []
    for (frame, number), entry in zip(steps, summary):
        inside = (
            entry.filename.startswith(_KINDS)
            or entry.filename == _STEPS
            or "importlib._bootstrap" in entry.filename
        )
        if not inside and "__unittest" not in frame.f_globals:
            kept.append((entry, number))
    if isinstance(error, SyntaxError) and error.filename and error.lineno:
        entry = traceback.FrameSummary(error.filename, error.lineno, "<module>", lookup_line=False)
        kept.append((entry, error.lineno))
    return kept[-50:]
