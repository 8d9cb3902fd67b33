"""Runs one batch: sends requests to workers, handles responses and the remaining tests."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from wolfbane.events.run_events import Exercised, TestStarted
from wolfbane.execution.batch_owner import BatchOwner
from wolfbane.execution.findings import ProcessDamage
from wolfbane.execution.pending_output import PendingOutput
from wolfbane.execution.unplanned_tests import UnplannedTests
from wolfbane.kinds.protocols import NestsTests, launcher_of
from wolfbane.kinds.registry import find_kind
from wolfbane.model import NESTED, Discrepancy, Outcome, Test
from wolfbane.planning.plan import Batch, arguments_around
from wolfbane.workers.channel import Request
from wolfbane.workers.launcher import Unstartable
from wolfbane.workers.message_data import Ending, ending
from wolfbane.workers.pool import Slot
from wolfbane.workers.protocol import (
    CoveredMessage,
    DamageMessage,
    EvidenceMessage,
    FinishedMessage,
    HandedMessage,
    OutputMessage,
    PartsMessage,
    RanMessage,
    SecretMessage,
    StartedMessage,
    TestMessage,
    WorkerMessage,
    WrongMessage,
)
from wolfbane.workers.worker import End, RequestEnd

if TYPE_CHECKING:
    from wolfbane.browsers.run_browsers import BrowserVerdict
    from wolfbane.browsers.worker_endpoints import WorkerEndpoint

IN_VAIN = 3
"""Workers in a row that may end before a test starts; each costs a test and a start."""
GRACE = 2.0
"""Seconds for a worker that ends a test itself, to report its position."""
AFTER_CRASH = {
    End.CRASHED: Outcome.CRASHED,
    End.TIMED_OUT: Outcome.TIMED_OUT,
    End.FLOODED: Outcome.ERRORED,
    End.NONSENSE: Outcome.ERRORED,
}


class BatchRun:
    """One running batch. It may use several workers, one after the other."""

    def __init__(self, owner: BatchOwner, slot: Slot, batch: Batch) -> None:
        self._owner, self._slot, self._batch = owner, slot, batch
        self._context, self._pool = owner.context, owner.context.pool
        workspace = self._context.workspace
        self._suite = workspace.suite(batch.suite)
        self._limit = owner.timeout or workspace.limit(self._suite)
        self._kind = find_kind(self._suite.kind)
        self._silence = self._limit + (GRACE if self._kind.keeps_limits else 0.0)
        self._left: dict[str, Test] = {test.worker_address: test for test in batch.tests}
        self._planned = frozenset(self._left)
        self._pending = PendingOutput(self._context)
        self._endpoint: WorkerEndpoint | None = None
        self._ending: list[asyncio.Task[None]] = []
        self._lost_in_vain = 0
        self._spoiled = False
        launcher = launcher_of(self._suite)
        self._gets_names = launcher is not None
        self._suite_path = launcher.result_path(self._suite) if launcher else ""
        self._unplanned = UnplannedTests(self._suite, batch, self._suite_path)

    async def run(self) -> None:
        """Run the remaining tests; a lost worker costs only its current test."""
        if self._batch.fresh:
            self._slot.renew(self._suite)
        while self._left and not self._pool.stopping:
            try:
                worker = await self._slot.worker(self._suite, self._batch.browser)
            except Unstartable as error:
                if not self._pool.stopping:
                    self._end_all(Outcome.BLOCKED, str(error))
                break
            self._endpoint = worker.endpoint
            if self._endpoint is not None:
                self._endpoint.begin_file()
            self._expect_the_next()
            before = len(self._left)
            request_end = await worker.ask(self._request(), RanMessage, self._listen, self._silence)
            worker.loaded.add(self._batch.path)
            await self._settle()
            if request_end.end is End.DONE and self._spoiled and len(self._left) < before:
                self._slot.renew(self._suite)  # what a test did to it would cost the rest
            elif request_end.end is End.DONE:
                self._account_for_the_rest()
                await self._settle()
                self._slot.release(self._suite)
            elif request_end.end is not End.STOPPED:
                self._lost(request_end, worker.printed())
                await self._settle()
                await self._slot.drop(self._suite.name)
        await self._settle()
        self._owner.over(self._batch)
        if self._batch.again and self._left:
            self._owner.give_up(self._left.values())
        elif self._left:
            self._owner.unrun += len(self._left)

    def _expect_the_next(self) -> None:
        """If another file of the suite follows, its worker may start in advance."""
        mine = (self._suite.name, self._batch.target, self._batch.browser)
        if any((b.suite, b.target, b.browser) == mine for b in self._owner.queue):
            self._slot.expect(self._suite, self._batch.browser)

    async def _settle(self) -> None:
        """Wait until the browser evidence of the tests is stored."""
        looking, self._ending = self._ending, []
        await asyncio.gather(*looking)

    def _request(self) -> Request:
        names = [test.name for test in self._left.values()]
        request: Request = {
            "type": "run",
            "file": self._batch.path,
            "names": names,
            "limit": self._limit,
        }
        if any(test.needs for test in self._batch.tests):
            request["given"] = self._owner.handed_in(self._batch)
        if self._gets_names:
            request.update(self._owner.names.request(self._batch, self._left.values()))
        if isinstance(self._kind, NestsTests):
            inner = self._owner.files[self._batch.path].tests
            outer = {test.name for test in self._batch.tests}
            request["without"] = [
                test.name
                for test in inner
                if test.name not in outer and any(name in outer for name in test.ancestors)
            ]
        return request

    def _listen(self, message: WorkerMessage) -> None:
        match message:  # the most frequent first
            case FinishedMessage():
                self._end(self._ended_test(message.address), message)
            case StartedMessage():
                self._started(message.address)
            case OutputMessage():
                self._pending.add_output(message)
            case PartsMessage():
                self._pending.add_parts(message)
            case EvidenceMessage():
                self._pending.add_evidence(message)
            case TestMessage():
                self._meet(message)
            case HandedMessage():
                name = message.address.partition("#")[2]
                self._owner.handed_in(self._batch)[name] = message.value
            case RanMessage(file=self._batch.path):
                self._spoiled = message.spoiled
                self._owner.names.ran(self._suite.name, message)
            case RanMessage():
                raise WrongMessage(
                    f"the worker reported on {message.file}, which was not requested"
                )
            case SecretMessage():
                self._context.mask.learn(message.text)
            case DamageMessage():
                test = self._left.get(message.address) or self._extra(message.address)
                damage = ProcessDamage(test.address, message.left, message.stays)
                self._owner.findings.damage.append(damage)
            case CoveredMessage():
                key = Exercised(
                    source=message.source,
                    operation=message.operation,
                    status=message.status,
                    media=message.media,
                )
                self._owner.findings.covered[key] += message.count

    def _started(self, address: str) -> None:
        if self._endpoint is not None:
            self._endpoint.started(address)
        if address in self._left:
            self._owner.tell(TestStarted(self._left[address].address, self._suite.name))

    def _ended_test(self, address: str) -> Test:
        planned = self._left.pop(address, None)
        if planned is None and address in self._planned:
            raise WrongMessage(f"the worker reported the end of {address} twice")
        return planned or self._extra(address)

    def _meet(self, message: TestMessage) -> None:
        """A test that appeared while others ran. It is stored for the next run."""
        test = self._unplanned.meet(message, self._left.get(message.address), self._more_paths())
        self._owner.findings.met.setdefault(test.path, {})[test.name] = test

    def _extra(self, address: str) -> Test:
        return self._unplanned.test(address, self._more_paths())

    def _more_paths(self) -> Iterable[str]:
        """Files of which the launcher gives results although they were not requested."""
        if self._gets_names:
            return self._owner.names.paths(self._batch)
        return ()

    def _account_for_the_rest(self) -> None:
        """Tests that did not appear. This is not an error if a test was only expected."""
        chosen = {test.name for test in self._batch.tests}
        for address, test in list(self._left.items()):
            if not test.exact:
                self._owner.findings.missed.setdefault(test.path, set()).add(test.name)
                if any(name in chosen for name in test.ancestors):
                    del self._left[address]
        self._end_all(Outcome.ERRORED, "the test did not appear when its file was run")

    def _end(self, test: Test, end: Ending, printed: str = "") -> None:
        """A test ended. If it had a browser, read its evidence there first."""
        began = self._context.began(end.seconds)
        if self._endpoint is None:
            self._report(test, end, printed, began=began)
        else:
            look = self._look(self._endpoint, test, end, printed=printed, began=began)
            self._ending.append(asyncio.create_task(look))

    async def _look(
        self, endpoint: WorkerEndpoint, test: Test, end: Ending, printed: str, began: float
    ) -> None:
        seen = await self._context.browsers.judged(
            endpoint, test, Outcome(end.outcome), end.message, self._context.evidence.keep
        )
        end = msgspec.structs.replace(end, outcome=seen.outcome.value, message=seen.message)
        self._report(test, end, printed, began=began, seen=seen)

    def _report(
        self,
        test: Test,
        end: Ending,
        printed: str,
        began: float,
        seen: BrowserVerdict | None = None,
    ) -> None:
        result = self._pending.result(
            test, end, printed, began=began, worker=self._slot.number, seen=seen
        )
        if result.account is Discrepancy.MISSING and not test.line:  # only a launcher knew of it
            self._owner.findings.missed.setdefault(test.path, set()).add(test.name)
        address = test.worker_address
        if address in self._planned:
            self._owner.ended(test, result, self._batch)
        elif not (self._batch.again and self._suite_path):  # a launcher may run more, again
            if address not in self._unplanned.met:
                result = replace(result, again=arguments_around(test, self._batch))
            self._owner.finished(result, True)

    def _end_all(self, outcome: Outcome, message: str) -> None:
        for test in self._left.values():
            self._end(test, ending(outcome, message))
        self._left.clear()

    def _lost(self, lost: RequestEnd, printed: str) -> None:
        """The worker has ended: find the test that it was running or about to run."""
        outcome = AFTER_CRASH[lost.end]
        message = lost.message
        test = self._left.pop(lost.current, None) or self._unplanned.met.get(lost.current)
        if lost.end is End.TIMED_OUT:
            message = f"the test ran longer than {self._limit:g} s"
        elif lost.end is End.CRASHED:
            message = f"the worker process ended: {lost.message}"
        self._lost_in_vain = 0 if test else self._lost_in_vain + 1
        if test is None and self._left:
            test = self._left.pop(next(iter(self._left)))
            message += " (before the test started: during loading, or in a hook)"
        elif test is None:
            test = self._unplanned.made("", self._batch.path)
            message += " (after the last test: in a closing hook)"
        self._end(test, ending(outcome, message, round(lost.seconds, 6)), printed)
        for address in list(self._left):
            if test.worker_address.startswith(f"{address}{NESTED}"):
                message = (
                    f"the test was stopped, because its worker ended "
                    f"while the nested test '{test.name}' was running"
                )
                self._end(self._left.pop(address), ending(outcome, message))
        if self._lost_in_vain == IN_VAIN:
            message = (
                f"gave up on this file: {IN_VAIN} workers ended before any of its tests started"
            )
            self._end_all(outcome, message)
