"""A run in which one test has the terminal."""

from __future__ import annotations

from wolfbane.errors import InputError, Problem
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.planning import Plan


def check_live(plan: Plan) -> None:
    """Raise InputError for a plan that ``--live`` cannot be used for."""
    tests = plan.tests
    if len(tests) != 1:
        hint = "choose one by its address: 'wolfbane list' prints them"
        raise InputError(Problem(f"--live is for one test, and {len(tests)} are chosen", hint=hint))
    kind = tests[0].kind
    if not find_kind(kind).can_be_live:
        able = ", ".join(name for name in KINDS if find_kind(name).can_be_live)
        words = f"--live: tests of kind {kind} cannot have the terminal"
        raise InputError(Problem(words, hint=f"those of these kinds can: {able}"))
