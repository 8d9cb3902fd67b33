"""Handles the requests of a load test: a preview, and this process's share of the load."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from wolfbane.kinds.worker.channel import Channel, Message
from wolfbane.kinds.workflow.document_set import DocumentSet, Unknown
from wolfbane.kinds.workflow.documents import DocumentError
from wolfbane.kinds.workflow.load.driver import LoadDriver
from wolfbane.kinds.workflow.load.hosts import addresses_of
from wolfbane.kinds.workflow.load.shape import LoadOrder
from wolfbane.kinds.workflow.runner.bodies import CannotCall
from wolfbane.kinds.workflow.runner.criteria import prepare
from wolfbane.kinds.workflow.runner.inner import reached
from wolfbane.kinds.workflow.runner.test_run import ReadyTest, in_order, make_ready
from wolfbane.kinds.workflow.runner.workflow_tools import Tools
from wolfbane.kinds.workflow.workflow_tests import cases


def keys_of(ready: ReadyTest) -> Iterator[tuple[str, str]]:
    """The measured parts of a test: its workflow, then the steps that send requests."""
    workflow = f"{ready.library.path}#{ready.case.workflow}"
    yield workflow, ""
    if ready.outcome != "errored":
        for here, name in reached(ready.library, ready.case.workflow):
            for step in here.document.workflows[name]["steps"]:
                if "workflowId" not in step:
                    yield workflow, step["stepId"]


class LoadWorker:
    """Serves the load tests of a suite in one process. Tests and documents are read once."""

    def __init__(self, channel: Channel, root: Path, copies: str, tools: Tools) -> None:
        self._channel, self._root, self._copies, self._tools = channel, root, copies, tools
        self._tests: list[ReadyTest] = []

    def look(self, request: Message) -> None:
        """Read the tests; report the targets of their requests, and the tests that cannot run."""
        self._tests = list(self._ready(request["tests"]))
        addresses: dict[str, None] = {}
        wrong: list[list[str]] = []
        for ready in self._tests:
            address = f"{ready.library.path}#{ready.case.name}"
            if ready.outcome:
                wrong.append([address, ready.outcome, ready.message])
                continue
            try:
                targets = addresses_of(ready.library, ready.case.workflow, self._tools.base_url)
                addresses.update(dict.fromkeys(targets))
                self._prepare(ready)
            except (Unknown, CannotCall, DocumentError, OSError, ValueError) as error:
                wrong.append([address, "errored", str(error)])
        self._channel.send(
            {
                "type": "load-looked",
                "addresses": list(addresses),
                "wrong": wrong,
                "keys": list(dict.fromkeys(key for ready in self._tests for key in keys_of(ready))),
            }
        )

    def _prepare(self, ready: ReadyTest) -> None:
        """Do before the load what its first requests would otherwise wait for."""
        for here, name in reached(ready.library, ready.case.workflow):
            for step in here.document.workflows[name]["steps"]:
                if "workflowId" not in step:
                    self._tools.contract.prepare(here.operation(step))
                for criterion in step.get("successCriteria", ()):
                    prepare(criterion)

    def drive(self, request: Message, requests: Iterator[Message]) -> None:
        """Run this process's share until it ends or Wolfbane sends ``stop``."""
        order = msgspec.convert(
            {key: value for key, value in request.items() if key != "type"}, LoadOrder
        )
        asyncio.run(self._drive(order, requests))

    async def _drive(self, order: LoadOrder, requests: Iterator[Message]) -> None:
        tools, loop = self._tools, asyncio.get_running_loop()
        tests = [ready for ready in self._tests if not ready.outcome]
        driver = LoadDriver(
            order,
            tests,
            tools.sender.http,
            contract=tools.contract,
            tokens=tools.tokens,
            values=tools.values,
            say=self._channel.send,
        )

        def stop() -> None:
            next(requests, None)  # Wolfbane sends only "stop" during a load, or closes the channel
            driver.stop()

        loop.add_reader(self._channel.fileno(), stop)
        try:
            last = await driver.run()
        finally:
            loop.remove_reader(self._channel.fileno())
        for (source, operation, status, media), count in driver.covered.items():
            told_of = {"source": source, "operation": operation, "status": status, "media": media}
            self._channel.hold({"type": "covered", **told_of, "count": count})
        self._channel.send(last)

    def _ready(self, chosen: Sequence[Sequence[str]]) -> Iterator[ReadyTest]:
        """The selected tests, document by document, each after those that it needs."""
        by_path: dict[str, list[str]] = {}
        for path, name in chosen:
            by_path.setdefault(path, []).append(name)
        for path, names in by_path.items():
            library = DocumentSet(self._root, path, copies=self._copies)
            by_name = {case.name: case for case in cases(library, lines=False)}
            for name in in_order(names, by_name):
                yield make_ready(library, by_name[name], self._tools.values)
