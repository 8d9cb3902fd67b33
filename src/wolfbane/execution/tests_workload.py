"""The workload of tests."""

from __future__ import annotations

import asyncio

from wolfbane.errors import InputError, Problem
from wolfbane.execution.run_state import RunState
from wolfbane.execution.workload import Executor
from wolfbane.kinds.protocols import Live, kinds_with
from wolfbane.planning.plan import Plan, each_apart


class TestsWorkload:
    """Runs each test of a plan."""

    has_order = True

    async def carry_out(self, state: RunState, executor: Executor, plan: Plan) -> int:
        """Run the plan; returns the number of tests that did not start."""
        request = state.request
        if request.live or (request.repeats and request.repeat_in == "fresh"):
            plan = each_apart(plan)
        assert state.context is not None
        if limit := request.run_time:
            asyncio.get_running_loop().call_later(limit, state.context.pool.stop)
        if not request.live:
            return await executor.run_tests(state, plan)
        from wolfbane.workers.terminal import LiveTerminal

        with LiveTerminal(state.mask) as state.context.launcher.terminal:
            return await executor.run_tests(state, plan)

    def stop(self) -> bool:
        """Tests do not end by themselves."""
        return False

    def verdict(self, state: RunState, verdict: tuple[int, str]) -> tuple[int, str]:
        """The outcomes alone decide."""
        return verdict


def check_live(plan: Plan) -> None:
    """Raise InputError for a plan that ``--live`` cannot be used for."""
    tests = plan.tests
    if len(tests) != 1:
        hint = "select one by its address; 'wolfbane list' prints the addresses"
        raise InputError(
            Problem(f"--live works with one test only, but {len(tests)} are selected", hint=hint)
        )
    kind = tests[0].kind
    kinds = [name for name, _ in kinds_with(Live)]
    if kind not in kinds:
        able = ", ".join(kinds)
        message = f"--live: tests of kind {kind} cannot use the terminal"
        raise InputError(Problem(message, hint=f"--live works with these kinds: {able}"))
