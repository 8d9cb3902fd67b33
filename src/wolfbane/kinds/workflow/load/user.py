"""One user of a load test. Runs workflows one after the other, as in a normal run."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import replace

from wolfbane.kinds.workflow.load.recorder import LoadExchanges, Recorder
from wolfbane.kinds.workflow.openapi import Operation
from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.test_run import Handed, ReadyTest, blocked_by, run_test
from wolfbane.kinds.workflow.runner.tokens import Tokens
from wolfbane.kinds.workflow.runner.workflow_tools import Tools

Covered = Counter[tuple[str, str, str, str]]


class LateTokens(Tokens):
    """Looks for tokens only in stored exchanges: nothing else is shown or written."""

    def __init__(self, tokens: Tokens) -> None:
        self._tokens = tokens
        self._last: tuple[Operation, Call, Answer] | None = None

    def look_at(self, operation: Operation, call: Call, answer: Answer) -> None:
        self._last = operation, call, answer

    def look(self) -> None:
        """Report the tokens in the last exchange."""
        if self._last is not None:
            self._tokens.look_at(*self._last)


class LoadUser:
    """The cookies, connections and passed values of one user."""

    def __init__(self, number: int, tools: Tools, recorder: Recorder, limit: float) -> None:
        """``tools`` contain the user's own sender. ``limit`` is for each test, in seconds."""
        self.number, self._recorder, self._limit = number, recorder, limit
        self.tokens = LateTokens(tools.tokens)
        self._tools = replace(tools, tokens=self.tokens)

    async def take(
        self,
        tests: Sequence[ReadyTest],
        due: float,
        may_begin: Callable[[], bool],
        pause: Callable[[], Awaitable[None]],
    ) -> None:
        """Run tests in order while more may start. ``due`` is the planned start of the first."""
        given: dict[str, dict[str, Handed]] = {}
        for ready in tests:
            if not may_begin():
                return
            began, due = due or time.perf_counter(), 0.0
            case, path = ready.case, ready.library.path
            handed = given.setdefault(path, {})
            exchanges = LoadExchanges(
                self._recorder,
                self._tools.sender,
                f"{path}#{case.workflow}",
                user=self.number,
                due=began,
                look=self.tokens.look,
            )
            end = blocked_by(case, handed) or await run_test(
                ready, handed, self._tools, exchanges=exchanges, limit=self._limit
            )
            if end.handed is not None:
                handed[case.name] = end.handed
            exchanges.workflow_ended(end.outcome, end.message)
            self._recorder.ended(f"{path}#{case.name}", end)
            await pause()

    async def close(self) -> None:
        """Close the connections."""
        await self._tools.sender.close()
