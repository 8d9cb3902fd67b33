"""The tools that workflows use, and the result of a workflow."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from wolfbane.kinds.workflow.runner.contract import Contract
from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.security import Security
from wolfbane.kinds.workflow.runner.sending import OutOfTime, Sender
from wolfbane.kinds.workflow.runner.tokens import Tokens


class WentWrong(Exception):
    """A step failed. ``outcome`` is failed, errored or timed out.

    ``lasting``: it fails the test even if the document handles it. That is everything but a
    criterion: a response that contradicts its description, no response, a missing value.
    """

    def __init__(self, outcome: str, message: str, line: int = 0, *, lasting: bool = False) -> None:
        self.outcome, self.line, self.lasting = outcome, line, lasting
        super().__init__(message)


def as_problem(error: Exception) -> WentWrong:
    """An error of any kind as the failure of a step."""
    if isinstance(error, WentWrong):
        return error
    outcome = "errored"
    if isinstance(error, OutOfTime):
        outcome = "timed out"
    return WentWrong(outcome, str(error), lasting=True)


@dataclass
class Tools:
    """The shared tools of all workflows in a suite."""

    sender: Sender
    security: Security
    contract: Contract
    base_url: str
    tokens: Tokens
    values: Mapping[str, Any]
    covered: Counter[tuple[str, str, str, str]] = field(default_factory=Counter)


@dataclass
class WorkflowEnd:
    """The end of a workflow: its outputs, its errors, and its last request and response."""

    outputs: dict[str, Any]
    problem: WentWrong | None = None
    call: Call | None = None
    answer: Answer | None = None
