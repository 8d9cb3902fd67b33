"""A run over several machines: planned here, carried out there, recorded here."""

from __future__ import annotations

import asyncio
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from wolfbane import __version__
from wolfbane.cluster.cluster_scheduler import ClusterScheduler
from wolfbane.cluster.engine import (
    Engine,
    MachineLink,
    MachineLost,
    check_address,
    cluster_address,
)
from wolfbane.cluster.messages import MachineJob
from wolfbane.cluster.packing import pack_workspace
from wolfbane.cores import available_cores
from wolfbane.errors import BlockedError, InputError, Problem
from wolfbane.execution.repeats import attempts_of
from wolfbane.execution.run_context import RunContext
from wolfbane.execution.run_inputs import RunInputs
from wolfbane.execution.session import Session
from wolfbane.execution.setup.preparation import Preparation, Prepared
from wolfbane.planning import Plan

_LOOK = 2.0
"""Seconds between two looks for machines that joined."""


class ClusterSession(Session):
    """One run from selection to exit code, over the machines of a cluster engine."""

    def __init__(self, inputs: RunInputs, run: str) -> None:
        super().__init__(inputs, run)
        self._jobs = self.request.jobs or available_cores()  # for what is collected here
        if self.request.live or self.request.visible:
            words = "--live and --visible are for this machine, and --on for others"
            raise InputError(Problem(words))
        self._address = cluster_address(self.workspace, self.request.on)
        check_address(self._address, self._secrets())
        self._manifest = pack_workspace(self.workspace)
        self._trouble = ""

    def _secrets(self) -> list[str]:
        return [secret for each in self.environments for secret in each.secrets]

    async def execute_async(self, folder: Path) -> int:
        """As :meth:`Session.execute`. Raises BlockedError where there is no scheduler."""
        tls = self.workspace.settings.cluster.tls(self.workspace.home)
        async with Engine(self._address, tls) as self._engine:
            if not await self._engine.machines():
                raise BlockedError(f"--on {self._address}: the scheduler has no machine")
            return await super().execute_async(folder)

    async def _prepared(self, preparation: Preparation, *, start: bool = True) -> Prepared:
        """Services are started on the machines, not here; browsers are looked for there, too."""
        request = self.request
        return await preparation.prepare(
            request.build, self.known.times, request.timeout, start=False, elsewhere=True
        )

    async def _scheduled(self, context: RunContext, plan: Plan) -> int:
        scheduler = ClusterScheduler(
            context, self.request.timeout, self._tell, self._finished, self.inventory.files,
            attempts_of(self.workspace, self.request), self._findings,
        )  # fmt: skip
        scheduler.prepare(context.folder, partial(self._begin_on, context, plan))
        scheduler.start(plan)
        await self._serve_all(scheduler, context)
        self._late_warnings += scheduler.warnings
        context.browsers.versions.update(scheduler.browsers)
        return scheduler.close()

    def _verdict(self, unrun: int) -> tuple[int, str]:
        code, reason = super()._verdict(unrun)
        if self._trouble and code in (0, 3):
            code = 4
        return code, "; ".join(filter(None, [reason, self._trouble]))

    async def _serve_all(self, scheduler: ClusterScheduler, context: RunContext) -> None:
        """Serve every machine there is, and those that join, until all is done."""
        serving: dict[str, asyncio.Task[None]] = {}
        unfit: set[str] = set()
        try:
            while not (scheduler.done or context.pool.stopping or self._trouble):
                try:
                    found = await self._engine.machines()
                except MachineLost as error:
                    self._trouble = str(error)
                    break
                for address, (name, slots) in found.items():
                    if address not in serving and address not in unfit:
                        link = await self._fit_link(self._engine, address, name, slots, unfit)
                        if link is not None:
                            serving[address] = asyncio.create_task(scheduler.serve(link))
                working = [task for task in serving.values() if not task.done()]
                if not working:
                    self._trouble = "no machine is left that can take the run"
                    break
                ended, _ = await asyncio.wait(
                    working, timeout=_LOOK, return_when=asyncio.FIRST_COMPLETED
                )
                for task in ended:
                    task.result()  # a lost machine is no error: whatever else comes here is
            if not (context.pool.stopping or self._trouble):
                await asyncio.gather(*serving.values())
        finally:
            await scheduler.stop()
            for task in serving.values():
                task.cancel()
            await asyncio.gather(*serving.values(), return_exceptions=True)

    async def _fit_link(
        self, engine: Engine, address: str, name: str, slots: int, unfit: set[str]
    ) -> MachineLink | None:
        """The connection to a machine, or None and a warning where it cannot be used."""
        try:
            link = await engine.link(address, name, slots)
        except MachineLost as error:
            unfit.add(address)
            self._late_warnings.append(f"machine {name} cannot be used: {error}")
            return None
        if link.facts.version != __version__:
            unfit.add(address)
            words = f"it has Wolfbane {link.facts.version}, and this is {__version__}"
            self._late_warnings.append(f"machine {name} cannot be used: {words}")
            return None
        return link

    async def _begin_on(self, context: RunContext, plan: Plan, link: MachineLink) -> None:
        try:
            await link.bring(self.workspace.root, self._manifest)
        except InputError as error:  # a file changed meanwhile: others may have the run already
            raise MachineLost(str(error)) from None
        suites = dict.fromkeys(test.suite for test in plan.tests)
        workspace = replace(self.workspace, source=None, file=None)
        job = MachineJob(
            link.name, self.run, workspace, self._manifest, list(self.environments), self.request,
            {path: self.inventory.files[path] for path in plan.paths}, list(suites),
            self.request.jobs or link.slots, _place(context.folder, self.workspace.home),
        )  # fmt: skip
        await link.start(job)


def _place(folder: Path, home: Path) -> str:
    return str(folder.relative_to(home) if folder.is_relative_to(home) else folder)
