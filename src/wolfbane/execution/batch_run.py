"""One batch on its way: requests to workers, what they answer, and what was left of it."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

from wolfbane.events import Exercised, TestStarted
from wolfbane.execution.channel import Message
from wolfbane.execution.left_files import content_of, with_paths
from wolfbane.execution.pool import Slot, Unstartable
from wolfbane.execution.worker import End, RequestEnd
from wolfbane.kinds.registry import find_kind
from wolfbane.model import NESTED, Evidence, Outcome, Part, Test
from wolfbane.planning import Batch

if TYPE_CHECKING:
    from wolfbane.browsers.worker_endpoints import WorkerEndpoint
    from wolfbane.execution.scheduler import Scheduler

IN_VAIN = 3
"""Workers in a row that may end before a test begins; each costs a test, and a start."""
GRACE = 2.0
"""Seconds for a worker that ends a test itself, to tell where it was."""
AFTER_CRASH = {
    End.CRASHED: Outcome.CRASHED,
    End.TIMED_OUT: Outcome.TIMED_OUT,
    End.FLOODED: Outcome.ERRORED,
    End.NONSENSE: Outcome.ERRORED,
}


class BatchRun:
    """One batch on its way, through as many workers as it takes."""

    def __init__(self, runner: Scheduler, slot: Slot, batch: Batch) -> None:
        self._runner, self._slot, self._batch = runner, slot, batch
        self._suite = runner.workspace.suite(batch.suite)
        self._limit = runner.timeout or runner.workspace.limit(self._suite)
        self._kind = find_kind(self._suite.kind)
        self._silence = self._limit + (GRACE if self._kind.keeps_limits else 0.0)
        self._holds_tests = self._kind.tests_hold_tests
        self._left: dict[str, Test] = {test.place: test for test in batch.tests}
        self._planned = frozenset(self._left)
        self._output: dict[str, list[str]] = {}
        self._parts: dict[str, list[Part]] = {}
        self._evidence: dict[str, list[Evidence]] = {}
        self._marks: dict[str, dict[str, str]] = {}
        self._endpoint: WorkerEndpoint | None = None
        self._ending: list[asyncio.Task[None]] = []
        self._met: dict[str, Test] = {}
        self._lost_in_vain = 0
        self._spoiled = False
        self._paths = dict.fromkeys(test.path for test in batch.tests)
        self._suite_path = self._kind.result_path(self._suite)
        if self._suite_path:  # results that belong to none of several files count for it
            self._paths[self._suite_path] = None

    async def run(self) -> None:
        """Run what is left until nothing is; a lost worker costs the test it was running."""
        if self._batch.fresh:
            self._slot.renew(self._suite)
        while self._left and not self._runner.pool.stopping:
            try:
                worker = await self._slot.worker(self._suite, self._batch.browser)
            except Unstartable as error:
                if not self._runner.pool.stopping:
                    self._end_all(Outcome.BLOCKED, str(error))
                break
            self._endpoint = worker.endpoint
            self._expect_the_next()
            before = len(self._left)
            ending = await worker.ask(self._request(), "ran", self._listen, self._silence)
            worker.loaded.add(self._batch.path)
            await self._settle()
            if ending.end is End.DONE and self._spoiled and len(self._left) < before:
                self._slot.renew(self._suite)  # what a test did to it would cost the rest
            elif ending.end is End.DONE:
                self._account_for_the_rest()
                await self._settle()
                self._slot.release(self._suite)
            elif ending.end is not End.STOPPED:
                self._lost(ending, worker.printed())
                await self._settle()
                await self._slot.drop(self._suite.name)
        await self._settle()
        self._runner.over(self._batch)
        if self._batch.fresh and self._left:
            self._runner.give_up(self._left.values())
        elif self._left:
            self._runner.unrun += len(self._left)

    def _expect_the_next(self) -> None:
        """Where another file of the suite follows, its worker may be started ahead."""
        mine = (self._suite.name, self._batch.target, self._batch.browser)
        if any((b.suite, b.target, b.browser) == mine for b in self._runner.queue):
            self._slot.expect(self._suite, self._batch.browser)

    async def _settle(self) -> None:
        """Wait until what tests left in their browsers is safe."""
        ending, self._ending = self._ending, []
        await asyncio.gather(*ending)

    def _request(self) -> Message:
        names = [test.name for test in self._left.values()]
        request: Message = {
            "type": "run", "file": self._batch.path, "names": names, "limit": self._limit
        }  # fmt: skip
        if any(test.needs for test in self._batch.tests):
            request["given"] = self._runner.handed_in(self._batch)
        if self._kind.needs_names:
            chosen: dict[str, list[str]] = {}
            for test in self._left.values():
                chosen.setdefault(test.path, []).append(test.name)
            files = self._runner.files
            known = {p: [(t.name, t.group, t.called) for t in files[p].tests] for p in chosen}
            request.update(chosen=chosen, known=known, browser=self._batch.browser)
        if self._holds_tests:
            inner = self._runner.files[self._batch.path].tests
            outer = {test.name for test in self._batch.tests}
            request["without"] = [
                test.name
                for test in inner
                if test.name not in outer and any(name in outer for name in test.around)
            ]
        return request

    def _listen(self, message: Message) -> None:
        kind = message["type"]
        address = str(message.get("address", ""))
        if kind == "started" and self._endpoint is not None:
            self._endpoint.started(address)
        if kind == "started" and address in self._left:
            self._runner.tell(TestStarted(self._left[address].address, self._suite.name))
        elif kind == "output":
            self._output.setdefault(address, []).append(str(message["text"]))
        elif kind == "parts":
            parts = self._runner.maker.parts(message["parts"])
            self._parts.setdefault(address, []).extend(parts)
        elif kind == "evidence":
            self._keep(address, message)
        elif kind == "handed":
            self._runner.handed_in(self._batch)[address.partition("#")[2]] = message["value"]
        elif kind == "damage":
            test = self._left[address] if address in self._left else self._extra(address)
            left = tuple(str(words) for words in message["left"])
            self._runner.damage.append((test.address, left))
        elif kind == "ran":
            self._spoiled = bool(message.get("spoiled"))
        elif kind == "secret":
            self._runner.pool.mask.learn(str(message["text"]))
        elif kind == "covered":
            self._runner.covered[_coverage(message)] += int(message["count"])
        elif kind == "test":
            self._meet(address, int(message.get("line", 0)))
        elif kind == "finished":
            test = self._left.pop(address) if address in self._left else self._extra(address)
            self._end(test, message)

    def _keep(self, address: str, message: Message) -> None:
        """A file that a test left behind; its ``mark`` stands for it in what the test says."""
        kept = self._runner.pool.keep(address, str(message["kind"]), content_of(message))
        name = self._runner.pool.mask(str(message.get("name", "")))
        kept = replace(kept, name=name, part=int(message.get("part", 0)))
        self._evidence.setdefault(address, []).append(kept)
        if "mark" in message:
            place = self._runner.pool.place(kept)
            self._marks.setdefault(address, {})[str(message["mark"])] = place

    def _meet(self, address: str, line: int) -> None:
        """A test that came up inside of another one: remembered for the next time."""
        test = self._extra(address)
        chosen = {other.name: other for other in self._batch.tests}
        outer = next((chosen[name] for name in test.around if name in chosen), test)
        known = self._left.get(address)
        test = replace(known or test, line=line, tags=outer.tags, exact=True)
        self._met[address] = self._runner.met.setdefault(test.path, {})[test.name] = test

    def _extra(self, address: str) -> Test:
        """What was not asked for: a test inside of one that was, or a hook that failed."""
        if address in self._met:
            return self._met[address]
        for path in self._paths:
            if address == path or address.startswith(f"{path}#"):
                return self._made(address[len(path) + 1 :], path)
        raise ValueError(f"{address} was not asked for")

    def _made(self, name: str, path: str) -> Test:
        """A test that nobody had planned."""
        suite, batch = self._suite, self._batch
        return Test(
            suite.name, suite.kind, path, name, exact=True, browser=batch.browser,
            target=batch.target,
        )  # fmt: skip

    def _again(self, test: Test) -> tuple[str, ...]:
        """Arguments that choose the tests around a hook: its class or group, file or suite."""
        others = [other.name for other in self._batch.tests if other.path == test.path]
        browser = ("--browser", test.browser) if test.browser else ()
        for name in (test.name, *test.around):
            if any(other == name or other.startswith(f"{name}{NESTED}") for other in others):
                group = replace(test, name=name).address
                return () if name == test.name else (group,)
        if others:
            return (test.path, *browser)
        return ("--suite", test.suite, *browser)

    def _account_for_the_rest(self) -> None:
        """What never came up. That is no fault of a test that was only thought to be there."""
        chosen = {test.name for test in self._batch.tests}
        for address, test in list(self._left.items()):
            if not test.exact:
                self._runner.missed.setdefault(test.path, set()).add(test.name)
                if any(name in chosen for name in test.around):
                    del self._left[address]
        self._end_all(Outcome.ERRORED, "it did not come up when its file was run")

    def _end(self, test: Test, message: Mapping[str, object], printed: str = "") -> None:
        """A test ended; where it had a browser, look first at what it left there."""
        began = self._runner.pool.began(float(str(message.get("seconds", 0.0))))
        if self._endpoint is None:
            self._told(test, message, printed, began)
        else:
            self._runner.maker.make(test, message, "")  # a wrong message is the worker's end now
            look = self._look(self._endpoint, test, message, printed, began)
            self._ending.append(asyncio.create_task(look))

    async def _look(
        self,
        endpoint: WorkerEndpoint,
        test: Test,
        message: Mapping[str, object],
        printed: str,
        began: float,
    ) -> None:
        browsing, keep = self._runner.pool.browsing, self._runner.pool.keep
        message, kept = await browsing.judged(endpoint, test, message, keep)
        self._evidence.setdefault(test.place, []).extend(kept)
        self._told(test, message, printed, began)

    def _told(self, test: Test, message: Mapping[str, object], printed: str, began: float) -> None:
        output = "".join(self._output.pop(test.place, ())) + printed
        parts = self._parts.pop(test.place, ())
        evidence = self._evidence.pop(test.place, ())
        worker = self._slot.number
        if marks := self._marks.pop(test.place, None):
            message = with_paths(message, marks)
        result = self._runner.maker.make(test, message, output, parts, evidence, began, worker)
        if test.place not in self._planned and test.place not in self._met:
            result = replace(result, again=self._again(test))
        if test.place in self._planned:
            self._runner.ended(test, result, self._batch)
        elif not (self._batch.fresh and self._suite_path):  # a launcher may run more, again
            self._runner.finished(result, True)

    def _end_all(self, outcome: Outcome, words: str) -> None:
        for test in self._left.values():
            self._end(test, {"outcome": outcome, "message": words})
        self._left.clear()

    def _lost(self, ending: RequestEnd, printed: str) -> None:
        """The worker is gone: name the test that it was running, or about to run."""
        outcome = AFTER_CRASH[ending.end]
        words = ending.words
        test = self._left.pop(ending.current, None)
        if test is None and ending.current in self._met:
            test = self._met[ending.current]
        if ending.end is End.TIMED_OUT:
            words = f"it ran longer than {self._limit:g} s"
        elif ending.end is End.CRASHED:
            words = f"its process ended: {ending.words}"
        self._lost_in_vain = 0 if test else self._lost_in_vain + 1
        if test is None and self._left:
            test = self._left.pop(next(iter(self._left)))
            words += " (before the test itself began: while loading, or in a hook)"
        elif test is None:
            test = self._made("", self._batch.path)
            words += " (after its last test: in a closing hook)"
        message = {"outcome": outcome, "message": words, "seconds": round(ending.seconds, 6)}
        self._end(test, message, printed)
        for address in list(self._left):
            if test.place.startswith(f"{address}{NESTED}"):
                words = f"it was ended while '{test.name}' ran inside of it"
                self._end(self._left.pop(address), {"outcome": outcome, "message": words})
        if self._lost_in_vain == IN_VAIN:
            words = f"{IN_VAIN} workers ended before a test of this file began, and it was left"
            self._end_all(outcome, words)


def _coverage(message: Message) -> Exercised:
    return Exercised(*(str(message[key]) for key in ("source", "operation", "status", "media")))
