"""A fixed number of slots that work at once, each with a worker for every suite it serves."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Callable, Coroutine, Iterable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from types import TracebackType

from wolfbane.environments import Environment, Mask
from wolfbane.execution.browsing import Browsing
from wolfbane.execution.channel import ChannelServer, Message
from wolfbane.execution.processes import Family
from wolfbane.execution.results import ResultMaker
from wolfbane.execution.worker import START_LIMIT, End, Worker
from wolfbane.exits import how_it_ended
from wolfbane.kinds.contract import Missing, WorkerCommand
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.model import Evidence
from wolfbane.workspace.settings import Workspace

TICK = 0.05
_ENDINGS = {
    "screenshot": "png", "page": "html", "console": "console.txt", "protocol": "protocol.txt",
    "filmstrip": "gif",
}  # fmt: skip
_LONG = 6
"""Characters of a secret that is no word which tests may be named with by chance."""


class Unstartable(Exception):
    """A suite's worker cannot be started; the text says why."""


class Slot:
    """One of the things that can be done at a time."""

    def __init__(self, pool: Pool, number: int) -> None:
        self.pool = pool
        self.number = number
        self._started = 0
        self.target = ""
        self._workers: dict[str, Worker] = {}
        self._coming: dict[str, tuple[str, asyncio.Task[Worker]]] = {}

    async def worker(self, suite: Suite, browser: str = "") -> Worker:
        """This slot's worker for a suite, started if need be. Raises Unstartable."""
        worker = self._workers.get(suite.name)
        if worker is not None and worker.browser != browser:
            self._retire(suite)
            worker = None
        if worker is None or worker.gone:
            _, coming = self._coming.pop(suite.name, ("", None))
            worker = await (coming or self._start(suite, browser))
            self._workers[suite.name] = worker
            if worker.browser != browser:
                return await self.worker(suite, browser)
        return worker

    def _retire(self, suite: Suite) -> None:
        worker = self._workers.pop(suite.name)
        worker.retire()
        self.pool.bury(worker)

    def _start(self, suite: Suite, browser: str) -> asyncio.Task[Worker]:
        self._started += 1
        member = f"{self.number}.{self._started}"
        return asyncio.create_task(self.pool.start(suite, self.target, browser, member))

    async def turn_to(self, target: str) -> None:
        """Work against another environment: be done with the workers of the one before."""
        if target == self.target:
            return
        await self.close()
        self._coming.clear()
        for worker in self._workers.values():
            worker.retire()
            self.pool.bury(worker)
        self._workers.clear()
        self.target = target

    def expect(self, suite: Suite, browser: str = "") -> None:
        """Another file of the suite will come: where each wants a worker, start the next one."""
        if find_kind(suite.kind).loads_afresh and suite.name not in self._coming:
            self._coming[suite.name] = browser, self._start(suite, browser)

    def running(self, suites: Iterable[Suite]) -> Iterator[tuple[Suite, Worker]]:
        """The live workers of these suites."""
        for suite in suites:
            worker = self._workers.get(suite.name)
            if worker is not None and not worker.gone:
                yield suite, worker

    def release(self, suite: Suite) -> None:
        """A request is done: where each wants a worker of its own, be done with this one."""
        if find_kind(suite.kind).loads_afresh and suite.name in self._workers:
            self._retire(suite)

    async def close(self) -> None:
        """Start nothing more."""
        coming = [task for _, task in self._coming.values()]
        for task in coming:
            task.cancel()
        await asyncio.gather(*coming, return_exceptions=True)

    def renew(self, suite: Suite) -> None:
        """Have the next request of a suite served by a worker that ran nothing."""
        if suite.name in self._workers:
            self._retire(suite)

    def has_loaded(self, suite: str, path: str, browser: str = "") -> bool:
        """Whether a worker of this slot holds that file already."""
        worker = self._workers.get(suite)
        here = worker is not None and not worker.gone and worker.browser == browser
        return here and worker is not None and path in worker.loaded

    async def drop(self, suite: str) -> None:
        """Be done with the worker of a suite that died."""
        await self._workers.pop(suite).bury()


class Pool:
    """Starts workers, watches over them, and leaves no process behind."""

    def __init__(
        self, workspace: Workspace, folder: Path, jobs: int, environments: Sequence[Environment],
        browsing: Browsing, mask: Mask, *, no_build: bool = False,
    ) -> None:  # fmt: skip
        self.no_build = no_build
        self.slots = [Slot(self, number) for number in range(1, jobs + 1)]
        self.stopping = False
        self._since = time.monotonic()
        self._workspace = workspace
        self.environments = {environment.label: environment for environment in environments}
        self.mask = mask
        self.telltale = Mask(s for each in environments for s in each.secrets if len(s) >= _LONG)
        names = {label: label or each.name for label, each in self.environments.items()}
        self.maker = ResultMaker(workspace.root, self.mask, names)
        self.folder = folder
        self.family = Family()
        self.browsing = browsing
        self._kept = 0
        self._server = ChannelServer()
        self._workers: list[Worker] = []
        self._burials: set[asyncio.Task[None]] = set()
        self._unstartable: dict[tuple[str, str], str] = {}

    async def __aenter__(self) -> Pool:
        self.family.__enter__()
        await self._server.open()
        self._ticking = asyncio.create_task(self._tick())
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.finish()
        self._ticking.cancel()
        await self.browsing.close()
        self._server.close()
        self.family.__exit__(kind, error, trace)

    async def finish(self) -> None:
        """Have every worker end; what they say at their end is still heard."""
        for slot in self.slots:
            await slot.close()
        workers, self._workers = self._workers, []
        for worker in workers:
            worker.retire()
        await asyncio.gather(*self._burials, *(worker.bury() for worker in workers))

    def keep(self, address: str, kind: str, content: str | bytes) -> Evidence:
        """Write what a test left behind into the run's folder, secrets masked in texts.

        Where that cannot be done its path names nothing, and reports say so.
        """
        folder = self.folder / "evidence"
        self._kept += 1
        name = re.sub(r"[^\w.-]+", "-", address.rpartition("#")[2] or address).strip("-")[:60]
        path = folder / f"{self._kept:04}-{name}.{_ENDINGS.get(kind, kind)}"
        if isinstance(content, str):
            content = self.mask(content).encode()
        try:
            folder.mkdir(exist_ok=True)
            path.write_bytes(content)
        except OSError:
            path.unlink(missing_ok=True)
        return Evidence(kind, path.relative_to(self.folder).as_posix())

    def place(self, evidence: Evidence) -> str:
        """Where a kept file is: from the workspace's root, if it is inside of it."""
        path = self.folder / evidence.path
        root = self._workspace.root
        return str(path.relative_to(root) if path.is_relative_to(root) else path)

    def began(self, seconds: float) -> float:
        """When something that took so long, and is over now, began: in seconds of the run."""
        return round(max(time.monotonic() - self._since - seconds, 0.0), 3)

    def stop(self) -> None:
        """Start nothing new, and end every worker now."""
        self.stopping = True
        for worker in self._workers:
            worker.stop()

    def bury(self, worker: Worker) -> None:
        """See to a retired worker's end while others go on."""
        self._workers.remove(worker)
        burial = asyncio.create_task(worker.bury())
        self._burials.add(burial)
        burial.add_done_callback(self._burials.discard)

    async def each(self, work: Callable[[Slot], Coroutine[None, None, None]]) -> None:
        """Do the work in every slot at once."""
        async with asyncio.TaskGroup() as group:
            for slot in self.slots:
                group.create_task(work(slot))

    @property
    def first(self) -> Environment:
        """The environment that builds are made in."""
        return next(iter(self.environments.values()))

    def variables(self, suite: Suite, target: str = "") -> dict[str, str]:
        """The environment variables of a suite's processes; without a target, the first one's."""
        environment = self.environments.get(target) or self.first
        found = environment.variables(suite)
        for form, variable in suite.values_file.items():
            found[variable] = str(self._values_file(environment, form))
        return found

    def _values_file(self, environment: Environment, form: str) -> Path:
        """A file with the environment's values, for nobody else to read; it goes with the run."""
        number = list(self.environments.values()).index(environment)
        path = self.family.scratch / f"values-{number}.{form}"
        if not path.exists():
            path.touch(mode=0o600)
            path.write_text(environment.as_file(form), encoding="utf-8")
        return path

    async def start(self, suite: Suite, target: str, browser: str, member: str) -> Worker:
        """A new worker that has said hello. Raises Unstartable, the same way each time."""
        key = (suite.name, target)
        if key in self._unstartable:
            raise Unstartable(self._unstartable[key])
        environment = self.variables(suite, target)
        capture = self.family.scratch / f"worker-{member}.out"
        endpoint, told = await self.browsing.endpoint(self.family, suite, browser)
        try:
            command = self._command(suite, target)
            worker = Worker(
                self._server, self.family, member, command, {**environment, **told}, capture,
                self._workspace.root, endpoint, lambda: self.browsing.dismiss(endpoint, suite),
            )  # fmt: skip
        except (Missing, OSError) as error:
            self._unstartable[key] = str(error)
            raise Unstartable(str(error)) from None
        self._workers.append(worker)
        outcome = await worker.ask(None, "hello", _ignore, START_LIMIT)
        if outcome.end is not End.DONE:
            said = worker.printed().strip()
            why = f"its worker did not start ({outcome.words or outcome.end.value}) {said}".strip()
            if outcome.end is not End.STOPPED:
                self._unstartable[key] = why
            raise Unstartable(why)
        return worker

    def _command(self, suite: Suite, target: str) -> WorkerCommand:
        """How to start a worker, told every parameter if its kind wants them."""
        kind = find_kind(suite.kind)
        more: dict[str, object] = {"prompt": True} if suite.browsers else {}
        more.update(no_build=self.no_build, results=str(self._workspace.results))
        if kind.reads_values:
            environment = self.environments.get(target) or self.first
            suite = kind.filled(suite, environment.filled)
            more["values"] = {name: value.value for name, value in environment.values.items()}
        command = kind.worker(self._workspace.root, suite)
        return replace(command, options={**command.options, **more})

    async def command(self, suite: Suite, command: str, member: str) -> tuple[str, str]:
        """Run a shell command for a suite; returns how it failed (or nothing) and its output."""
        member = member.replace("/", "-")
        printed = self.family.scratch / f"{member}.out"
        process = self.family.start(
            ["/bin/sh", "-c", command],
            self._workspace.root / suite.folder,
            self.variables(suite),
            printed,
            member,
        )
        while process.poll() is None and not self.stopping:
            await asyncio.sleep(TICK / 2)
        stopped = process.poll() is None
        self.family.end(process, member)
        output = printed.read_text(encoding="utf-8", errors="replace")
        printed.unlink()
        code = process.returncode
        return "stopped" if stopped else how_it_ended(code) if code else "", output

    async def _tick(self) -> None:
        while True:
            await asyncio.sleep(TICK)
            now = time.monotonic()
            for worker in self._workers:
                worker.tick(now)


def _ignore(message: Message) -> None:
    pass
