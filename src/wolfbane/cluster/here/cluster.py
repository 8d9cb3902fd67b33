"""The cluster of one run: its engine, and the files that are sent to the machines."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from wolfbane import __version__
from wolfbane.cluster.here.engine import (
    Engine,
    MachineLink,
    MachineLost,
    cluster_address,
)
from wolfbane.cluster.here.packing import pack_workspace
from wolfbane.cluster.messages import MachineJob
from wolfbane.errors import BlockedError, InputError, Problem
from wolfbane.planning.plan import Plan
from wolfbane.results.newest import Known
from wolfbane.setup.preparation import Preparation, Prepared
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.run_inputs import RunInputs


class Cluster:
    """The parts of a cluster that a run needs. ``warnings`` lists the machines that cannot be used.

    Raises InputError for an address that cannot be used, and for a workspace that must not be sent.
    """

    def __init__(self, inputs: RunInputs, run: str) -> None:
        self._inputs, self._run = inputs, run
        self._workspace, self._request = inputs.workspace, inputs.request
        if self._request.live or self._request.visible:
            message = "--live and --visible work only on this machine and cannot be used with --on"
            raise InputError(Problem(message))
        secrets = [secret for each in inputs.environments for secret in each.secrets]
        self.address = cluster_address(self._workspace, self._request.on, secrets)
        self._manifest = pack_workspace(self._workspace)
        self._unfit: set[str] = set()
        self.warnings: list[str] = []

    async def __aenter__(self) -> Cluster:
        """Connect. Raises BlockedError if there is no scheduler or no machine."""
        tls = self._workspace.settings.cluster.tls(self._workspace.home)
        self._engine = await Engine(self.address, tls).__aenter__()
        try:
            if not await self.machines():
                raise BlockedError(f"--on {self.address}: no machine is connected to the scheduler")
        except MachineLost as error:
            await self._engine.__aexit__()
            raise BlockedError(f"--on {self.address}: {error}") from None
        except BlockedError:
            await self._engine.__aexit__()
            raise
        return self

    async def __aexit__(self, *_: object) -> None:
        await self._engine.__aexit__()

    async def machines(self) -> dict[str, tuple[str, int]]:
        """The machines that can be tried: name and slots by address. Raises MachineLost."""
        machines = await self._engine.machines()
        return {address: each for address, each in machines.items() if address not in self._unfit}

    @property
    def answered(self) -> bool:
        """Whether the scheduler responded to the last request for machines."""
        return self._engine.answered

    async def prepare(self, preparation: Preparation, known: Known) -> Prepared:
        """Select the tests. Services start and browsers are found on the machines."""
        request = self._request
        return await preparation.prepare(
            request.build, known.times, request.timeout, start=False, elsewhere=True
        )

    async def link(self, address: str, name: str, slots: int) -> MachineLink | None:
        """The connection to a machine, or None and a warning if the machine cannot be used."""
        try:
            link = await self._engine.link(address, name, slots)
        except MachineLost as error:
            self._give_up(address, name, str(error))
            return None
        if link.facts.version != __version__:
            message = (
                f"different versions of Wolfbane: "
                f"{link.facts.version} on this machine, {__version__} here"
            )
            self._give_up(address, name, message)
            return None
        return link

    def _give_up(self, address: str, name: str, why: str) -> None:
        self._unfit.add(address)
        self.warnings.append(f"cannot use machine {name}: {why}")

    async def begin(
        self, link: MachineLink, context: RunContext, plan: Plan, jobs: int, *, load: bool = False
    ) -> None:
        """Send the workspace to a machine, and start its part of the run. Raises MachineLost."""
        workspace, inventory = self._workspace, self._inputs.inventory
        try:
            await link.bring(workspace.root, self._manifest)
        except InputError as error:  # a file changed meanwhile: others may have the run already
            raise MachineLost(str(error)) from None
        suites: Sequence[str] = list(dict.fromkeys(test.suite for test in plan.tests))
        folder, home = context.folder, workspace.home
        if folder.is_relative_to(home):
            shown = folder.relative_to(home)
        else:
            shown = folder
        job = MachineJob(
            name=link.name,
            run=self._run,
            workspace=replace(workspace, source=None, file=None),
            manifest=self._manifest,
            environments=list(self._inputs.environments),
            request=self._request,
            files={path: inventory.files[path] for path in plan.paths},
            suites=suites,
            jobs=jobs,
            folder=str(shown),
            load=load,
        )
        await link.start(job)
