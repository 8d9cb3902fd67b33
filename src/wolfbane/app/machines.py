"""The machines of a cluster, and the suites and browsers of a workspace that each can run."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping

import msgspec

from wolfbane import __version__
from wolfbane.cluster.here.engine import Engine, MachineLost, cluster_address
from wolfbane.cluster.here.packing import Manifest, pack_workspace
from wolfbane.cluster.messages import AbilityQuestion, MachineAbilities
from wolfbane.cluster.there.actor import MachineFacts
from wolfbane.errors import BlockedError
from wolfbane.workspace.settings import Workspace


class MachineStatus(msgspec.Struct, frozen=True):
    """The status of a machine in a cluster. ``problem`` gives the reason if it cannot be used."""

    name: str
    address: str
    slots: int
    facts: MachineFacts | None = None
    abilities: MachineAbilities | None = None
    problem: str = ""

    @property
    def missing(self) -> Mapping[str, str]:
        """The reasons why suites cannot run there, by name."""
        if self.abilities:
            return self.abilities.missing
        return {}


def look_at_machines(workspace: Workspace, on: str) -> list[MachineStatus]:
    """All machines that are connected to the scheduler.

    Raises InputError, and BlockedError without one.
    """
    address = cluster_address(workspace, on, ())
    manifest = pack_workspace(workspace)
    tls = workspace.settings.cluster.tls(workspace.home)

    async def look() -> list[MachineStatus]:
        async with Engine(address, tls) as engine:
            try:
                machines = await engine.machines()
            except MachineLost as error:
                raise BlockedError(str(error)) from None
            looks = (
                _look_at(engine, url, name, slots=slots, workspace=workspace, manifest=manifest)
                for url, (name, slots) in machines.items()
            )
            return sorted(await asyncio.gather(*looks), key=lambda machine: machine.name)

    return asyncio.run(look())


async def _look_at(
    engine: Engine, address: str, name: str, slots: int, workspace: Workspace, manifest: Manifest
) -> MachineStatus:
    status = MachineStatus(name, address, slots)
    try:
        link = await engine.link(address, name, slots)
        status = msgspec.structs.replace(status, facts=link.facts)
        if link.facts.version != __version__:
            problem = (
                f"different versions of Wolfbane: "
                f"{link.facts.version} on this machine, {__version__} here"
            )
            return msgspec.structs.replace(status, problem=problem)
        await link.bring(workspace.root, manifest)
        await link.start(AbilityQuestion(workspace, manifest))
        async for message in link.messages():
            if isinstance(message, MachineAbilities):
                status = msgspec.structs.replace(status, abilities=message)
        await link.close()
    except MachineLost as error:
        return msgspec.structs.replace(status, problem=str(error))
    return status
