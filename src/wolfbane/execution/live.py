"""A run in which one test uses the terminal."""

from __future__ import annotations

from wolfbane.errors import InputError, Problem
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.planning.plan import Plan


def check_live(plan: Plan) -> None:
    """Raise InputError for a plan that ``--live`` cannot be used for."""
    tests = plan.tests
    if len(tests) != 1:
        hint = "select one by its address; 'wolfbane list' prints the addresses"
        raise InputError(
            Problem(f"--live works with one test only, but {len(tests)} are selected", hint=hint)
        )
    kind = tests[0].kind
    if not find_kind(kind).can_be_live:
        able = ", ".join(name for name in KINDS if find_kind(name).can_be_live)
        words = f"--live: tests of kind {kind} cannot use the terminal"
        raise InputError(Problem(words, hint=f"--live works with these kinds: {able}"))
