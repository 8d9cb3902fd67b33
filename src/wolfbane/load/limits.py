"""Limits of a load test: ``p95 < 300ms``, ``errors < 1%``, ``rate > 50/s``, ``book: p99 < 1s``."""

from __future__ import annotations

import operator
import re
from collections.abc import Callable, Sequence

import msgspec

from wolfbane.basis.units import rate, seconds
from wolfbane.errors import ExpressionError, InputError, Problem, did_you_mean
from wolfbane.load.figures import LoadFigures, StepFigures

_LIMIT = re.compile(
    r"\s*(?:(?P<step>[^:<>]+?)\s*:\s*)?(?P<figure>[a-z][\w.]*)\s*(?P<sign><=|>=|<|>)\s*(?P<value>.+?)\s*"
)
_SIGNS: dict[str, Callable[[float, float], bool]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}
_PERCENTILE = re.compile(r"p(\d{1,2}(?:\.\d+)?)")
_TIMES = ("median", "mean", "max")
_FIGURES = ("p90", "p95", "p99", "p99.9", *_TIMES, "errors", "rate")


class Limit(msgspec.Struct, frozen=True):
    """A limit for one figure, of all requests or of one step.

    ``value`` is in seconds for times, a fraction for errors in percent, a number for others.
    """

    text: str
    step: str
    figure: str
    sign: str
    value: float
    percent: bool = False

    def holds(self, figures: LoadFigures) -> bool:
        """Whether the limit is met by the measured values."""
        return _SIGNS[self.sign](self.measured(figures), self.value)

    def measured(self, figures: LoadFigures) -> float:
        """The measured figure. Raises InputError for a step that does not exist."""
        step = self._figures(figures)
        if match := _PERCENTILE.fullmatch(self.figure):
            return step.whole.percentile(float(match[1]))
        if self.figure == "errors":
            if self.percent and step.count:
                return step.failed / step.count
            return step.failed
        if self.figure == "rate":
            if figures.seconds:
                return step.count / figures.seconds
            return 0.0
        times = {"median": step.whole.percentile(50), "mean": step.whole.mean}
        return times.get(self.figure, step.whole.largest / 1e6)

    def shown(self, figures: LoadFigures) -> str:
        """The figure for display, in the limit's own unit."""
        value = self.measured(figures)
        if self.figure == "errors":
            if self.percent:
                return f"{value * 100:.2f}%"
            return f"{value:g}"
        if self.figure == "rate":
            return f"{value:.1f}/s"
        if value < 1:
            return f"{value * 1000:.1f} ms"
        return f"{value:.2f} s"

    def _figures(self, figures: LoadFigures) -> StepFigures:
        if not self.step:
            return figures.requests
        values = [
            f for (workflow, step), f in figures.steps.items() if self.is_about(workflow, step)
        ]
        merged = StepFigures()
        for each in values:
            merged.merge(each)
        return merged

    def is_about(self, workflow: str, step: str) -> bool:
        """Whether it applies to a step: its name, a workflow's name, or both: ``book.pay``."""
        name = workflow.rpartition("#")[2]
        return self.step in ((f"{name}.{step}", step) if step else (name,))


def read_limit(text: str) -> Limit:
    """Parse a limit. Raises ExpressionError with the position."""
    match = _LIMIT.fullmatch(text)
    if match is None:
        message = (
            "write a limit as FIGURE < VALUE or STEP: FIGURE < VALUE, for example 'p95 < 300ms'"
        )
        raise ExpressionError(message, text, _end_of_what_is_right(text))
    figure, value = match["figure"], match["value"]
    known = _PERCENTILE.fullmatch(figure) or figure in _FIGURES
    if not known:
        hint = did_you_mean(figure, _FIGURES)
        message = f"there is no figure '{figure}'; {hint}".removesuffix("; ")
        raise ExpressionError(message, text, match.start("figure"))
    try:
        number, percent = _value(figure, value)
    except ValueError as error:
        raise ExpressionError(str(error), text, match.start("value")) from None
    return Limit(
        text=text.strip(),
        step=match["step"] or "",
        figure=figure,
        sign=match["sign"],
        value=number,
        percent=percent,
    )


def check_steps(limits: Sequence[Limit], keys: Sequence[tuple[str, str]]) -> None:
    """Raise InputError for limits of steps that no selected workflow has."""
    problems = []
    for limit in limits:
        if limit.step and not any(limit.is_about(*key) for key in keys):
            names = {step or workflow.rpartition("#")[2] for workflow, step in keys}
            hint = did_you_mean(limit.step, names)
            problems.append(
                Problem(f"limit '{limit.text}': there is no step '{limit.step}'", hint=hint)
            )
    if problems:
        raise InputError(*problems)


def _value(figure: str, text: str) -> tuple[float, bool]:
    """The value in the figure's unit, and whether it is in percent. Raises ValueError."""
    if figure == "errors":
        number = text.removesuffix("%").strip()
        if not re.fullmatch(r"\d+(\.\d+)?", number):
            raise ValueError(f"'{text}' is not a number of errors (for example 0, 12 or 1%)")
        return float(number) / (100 if text.endswith("%") else 1), text.endswith("%")
    if figure == "rate":
        return rate(text), False
    if re.fullmatch(r"[\d.]+", text):
        raise ValueError(f"'{text}' has no unit (write '{text}ms' or '{text}s')")
    return seconds(text), False


def _end_of_what_is_right(text: str) -> int:
    match = re.match(r"\s*(?:[^:<>]+:)?\s*[a-z]*[\w.]*\s*(?:<=|>=|<|>)?\s*", text)
    return min(match.end() if match else 0, max(len(text) - 1, 0))
