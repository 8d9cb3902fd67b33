"""Runs one process's part of a load test, and reports every second."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import itertools
import json
import random
import time
from collections import Counter
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from typing import Any

from wolfbane.kinds.workflow.load.choice import WorkflowChoice
from wolfbane.kinds.workflow.load.hosts import AllowedHosts
from wolfbane.kinds.workflow.load.recorder import Key, Recorder
from wolfbane.kinds.workflow.load.shape import LoadOrder, arrivals, starts_of, value_at
from wolfbane.kinds.workflow.load.user import Covered, LoadUser
from wolfbane.kinds.workflow.openapi import Operation
from wolfbane.kinds.workflow.runner.aiohttp_transport import AiohttpTransport, TimedContext
from wolfbane.kinds.workflow.runner.contract import Contract, Mismatch
from wolfbane.kinds.workflow.runner.evidence import Exchanges
from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.security import Security
from wolfbane.kinds.workflow.runner.sending import NotAllowed, Sender
from wolfbane.kinds.workflow.runner.settings import HttpOptions
from wolfbane.kinds.workflow.runner.test_run import ReadyTest
from wolfbane.kinds.workflow.runner.tls import tls_context
from wolfbane.kinds.workflow.runner.tokens import Tokens
from wolfbane.kinds.workflow.runner.workflow_tools import Tools

LATE = 0.01
"""Seconds after which a start counts as late."""
_LOOK = 0.05
"""Seconds between two measurements of the event loop's delay."""
_POLL = 0.1


class SampledContract(Contract):
    """The contract checks, for a part of the responses. ``contract`` was prepared before."""

    def __init__(self, contract: Contract, part: float, chance: random.Random) -> None:
        super().__init__(())
        self._contract, self._part, self._chance = contract, part, chance

    def mismatches(
        self, operation: Operation, answer: Answer, step: Mapping[str, Any]
    ) -> list[Mismatch]:
        """All mismatches of a response that is checked."""
        if self._chance.random() >= self._part:
            return []
        return self._contract.mismatches(operation, answer, step)


class LoadDriver:
    """Runs the users of one process. ``tests`` are ordered by their dependencies."""

    def __init__(
        self,
        order: LoadOrder,
        tests: Sequence[ReadyTest],
        http: HttpOptions,
        contract: Contract,
        tokens: Tokens,
        values: Mapping[str, Any],
        say: Callable[[dict[str, Any]], None],
    ) -> None:
        self._order, self._http, self._values = order, http, values
        self._say, self._tokens = say, tokens
        self._chance = random.Random(f"{order.seed} {order.share.number}")
        self.began = time.perf_counter() + order.start_at - time.time()
        self._recorder = Recorder(self.began, order.samples, self._keep)
        self.covered: Covered = Counter()
        self._contract = SampledContract(contract, order.contract, self._chance)
        self._tls, self._allowed = tls_context(http, TimedContext), AllowedHosts(order.allowed)
        self._tls.read_system()  # before the load: no request is to wait for it
        self._choice = WorkflowChoice(
            tests,
            order.weights,
            order.rows,
            share=order.share,
            chance=self._chance,
            shuffled=order.shuffled,
        )
        self._active = self._most = self._late = 0
        self._lags: list[float] = []
        self._stopped = False
        self.refused = ""

    def stop(self) -> None:
        """Begin nothing more."""
        self._stopped = True

    async def run(self) -> dict[str, Any]:
        """Run the complete load; returns the last message."""
        gc.freeze()  # documents and schemas stay: to look at them again and again costs pauses
        sender = self._sender()
        self._security = Security(self._http.security, sender, self._http.base_url)
        watching = [asyncio.create_task(self._report()), asyncio.create_task(self._watch_lag())]
        unstarted = 0
        try:
            unstarted = await (self._open() if self._order.open else self._closed())
        except* NotAllowed as error:
            self.refused = str(error.exceptions[0])
        finally:
            over = self._now
            for task in watching:
                task.cancel()
            await sender.close()
            gc.unfreeze()
        self._tell_second(int(time.perf_counter() - self.began), cpu=0.0)
        tests = [{"address": address, **end} for address, end in self._recorder.ends.items()]
        empty = [f"{name} has no more data rows" for name in sorted(self._choice.empty)]
        return {
            "type": "loaded",
            "said": empty,
            "seconds": round(max(over, 0.0), 3),
            "unstarted": unstarted,
            "tests": tests,
            "refused": self.refused,
        }

    def _sender(self) -> Sender:
        return Sender(self._http, AiohttpTransport(self._http, self._tls), self._allowed)

    @contextlib.asynccontextmanager
    async def _user(self, number: int) -> AsyncIterator[LoadUser]:
        tools = Tools(
            sender=self._sender(),
            security=self._security,
            contract=self._contract,
            base_url=self._http.base_url,
            tokens=self._tokens,
            values=self._values,
            covered=self.covered,
        )
        user = LoadUser(number, tools, self._recorder, limit=self._order.limit)
        try:
            yield user
        finally:
            await user.close()

    @property
    def _now(self) -> float:
        return time.perf_counter() - self.began

    def _may_begin(self) -> bool:
        until = self._order.until
        return not self._stopped and (until is None or self._now < until)

    # --- Closed: users that take everything again and again

    async def _closed(self) -> int:
        order = self._order
        starts = starts_of(order.points, order.share, order.users)
        async with asyncio.TaskGroup() as group:
            for index, start in enumerate(starts):
                number = order.share.number + index * order.share.count
                group.create_task(self._closed_user(number, start))
        return 0

    async def _closed_user(self, number: int, start: float) -> None:
        await self._sleep_until(start)
        done = 0
        async with self._user(number) as user:
            while self._may_begin() and (not self._order.loops or done < self._order.loops):
                if self._order.until is not None and self._is_too_many(number):
                    await asyncio.sleep(_POLL)
                    continue
                tests = self._choice.next_ones()
                if not tests:
                    break
                await self._take(user, tests, 0.0)
                done += 1

    def _is_too_many(self, number: int) -> bool:
        return value_at(self._order.points, self._now) <= number

    # --- Open: workflows that are due at their times, whatever became of those before

    async def _open(self) -> int:
        """Returns how many workflows did not start because all users were busy."""
        order = self._order
        due: asyncio.Queue[float | None] = asyncio.Queue()
        if order.until is None:
            until = order.points[-1][0]
        else:
            until = order.until
        seed = self._chance.getrandbits(64)
        numbers = range(order.share.number, order.users, order.share.count)
        async with asyncio.TaskGroup() as group:
            for number in numbers:
                group.create_task(self._open_user(number, due))
            for when in arrivals(order.points, order.share, seed, evenly=order.evenly, until=until):
                await self._sleep_until(when)
                if self._stopped:
                    break
                due.put_nowait(self.began + when)
            await self._sleep_until(until)
            await asyncio.sleep(0)  # users that wait take what has just become due
            left = due.qsize()
            while not due.empty():
                due.get_nowait()
            for _ in numbers:
                due.put_nowait(None)
        return left

    async def _open_user(self, number: int, due: asyncio.Queue[float | None]) -> None:
        async with self._user(number) as user:
            while (when := await due.get()) is not None:
                self._late += time.perf_counter() - when > LATE
                await self._take(user, self._choice.next_one(), when)

    # --- What both have in common

    async def _take(self, user: LoadUser, tests: Sequence[ReadyTest], due: float) -> None:
        self._active += 1
        self._most = max(self._most, self._active)
        try:
            await user.take(tests, due, self._may_begin if not due else lambda: True, self._pause)
        finally:
            self._active -= 1

    async def _pause(self) -> None:
        low, high = self._order.pause
        if high and self._may_begin():
            await self._sleep_until(self._now + self._chance.uniform(low, high))

    async def _sleep_until(self, when: float) -> None:
        """Wait for a time of the load test, or until it is stopped."""
        while (left := when - self._now) > 0 and not self._stopped:
            await asyncio.sleep(min(left, _POLL))

    # --- Reports

    async def _report(self) -> None:
        """A message for each completed second, and for this process's processor use in it."""
        used = time.process_time()
        for second in itertools.count():
            await asyncio.sleep(max(second + 1 - self._now, 0))
            now = time.process_time()
            self._tell_second(second, now - used)
            used = now

    def _tell_second(self, second: int, cpu: float) -> None:
        rows, samples = self._recorder.take()
        lags, self._lags = self._lags, []
        late, self._late = self._late, 0
        most, self._most = self._most, self._active
        self._say(
            {
                "type": "load-second",
                "second": max(second, 0),
                "users": most,
                "rows": rows,
                "samples": samples,
                "lag": round(max(lags, default=0.0), 4),
                "cpu": round(cpu, 3),
                "late": late,
            }
        )

    async def _watch_lag(self) -> None:
        """The delay of the event loop, which also delays its measurements of responses."""
        while True:
            before = time.perf_counter()
            await asyncio.sleep(_LOOK)
            self._lags.append(max(time.perf_counter() - before - _LOOK, 0.0))

    def _keep(
        self, key: Key, kind: str, message: str, call: Call | None, answer: Answer | None
    ) -> None:
        """Report the first error of a kind, with its exchange."""
        exchanges = Exchanges()
        if call is not None:
            exchanges.add(call, answer, answer.seconds if answer is not None else 0.0, key[1])
        self._say(
            {
                "type": "load-error",
                "workflow": key[0],
                "step": key[1],
                "kind": kind,
                "message": message,
                "exchange": json.dumps(exchanges.archive()) if call else "",
            }
        )
