"""Starts the services that suites need, and checks that their environment is ready."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence

from wolfbane.environments import Environment
from wolfbane.environments.deployed import DeployedVersion, ask_version
from wolfbane.events.run_events import Event
from wolfbane.kinds.suite import Suite
from wolfbane.setup.probes import Prober
from wolfbane.setup.run_context import RunContext
from wolfbane.setup.services import Services
from wolfbane.workspace.probes import PATIENCE


class EnvironmentSetup:
    """The running services and ready environments of a run's suites."""

    def __init__(self, context: RunContext, tell: Callable[[Event], None]) -> None:
        self._context, self._workspace = context, context.workspace
        self.versions: dict[str, DeployedVersion] = {}
        self._services = [
            Services(
                environment,
                context.launcher.group,
                self._workspace.root,
                folder=context.folder,
                tell=tell,
                mask=context.mask,
                stopping=lambda: context.pool.stopping,
            )
            for environment in context.environments.values()
        ]

    async def prepare(self, suites: Sequence[Suite]) -> dict[tuple[str, str], str]:
        """The reasons why suites are blocked, by label of environment and name of suite."""
        pairs = zip(self._context.environments.values(), self._services)
        parts = await asyncio.gather(*(self._one(*pair, suites) for pair in pairs))
        return {variant: why for part in parts for variant, why in part.items()}

    async def _one(
        self, environment: Environment, services: Services, suites: Sequence[Suite]
    ) -> dict[tuple[str, str], str]:
        needed = {name for suite in suites for name in suite.needs or ()}
        failures = await services.start([*needed])
        if environment.version:
            version = await asyncio.to_thread(ask_version, environment, self._workspace.home)
            self.versions[environment.label] = version
        waiting = [suite for suite in suites if self._workspace.waits_for_environment(suite)]
        down = ""
        if waiting:
            down = await self._down(environment)
        blocked = {}
        for suite in suites:
            whys = [failures[name] for name in suite.needs or () if name in failures]
            if down and suite in waiting:
                whys.append(down)
            if whys:
                blocked[environment.label, suite.name] = whys[0]
        return blocked

    async def _down(self, environment: Environment) -> str:
        context, folder = self._context, self._workspace.root
        group, pool = context.launcher.group, context.pool
        prober = Prober(
            group=group,
            folder=folder,
            variables=environment.exports,
            given_up=lambda: pool.stopping,
        )
        waits = [prober.wait(probe, PATIENCE) for probe in environment.probes]
        whys = [why for why in await asyncio.gather(*waits) if why]
        name = environment.name or "the environment"
        if whys:
            return context.mask(f"{name} is not ready: {'; '.join(whys)}")
        return ""

    def ended(self) -> list[str]:
        """Services that ended by themselves during this time."""
        return [message for services in self._services for message in services.ended()]

    async def close(self) -> None:
        """Stop every service."""
        await asyncio.gather(*(services.stop() for services in self._services))
