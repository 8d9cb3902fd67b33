"""The services, readiness checks and placeholder texts of an environment."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from msgspec.structs import replace

from wolfbane.environments.environment import HOLE, Environment, ServicePlan
from wolfbane.errors import did_you_mean
from wolfbane.kinds.protocols import FillsSettings
from wolfbane.kinds.registry import find_kind
from wolfbane.workspace.probes import read_probes
from wolfbane.workspace.settings import Service, Workspace
from wolfbane.workspace.version_source import read_version_source
from wolfbane.workspace.vocabulary import VERSION, is_env_word


class ServicePlanner:
    """Reads them for a chain of environments; ``add`` takes a message, a hint and a file."""

    def __init__(
        self,
        workspace: Workspace,
        chain: Sequence[str],
        add: Callable[[str, str, str], None],
        ways: str,
    ) -> None:
        self.workspace, self.chain, self.ways = workspace, chain, ways
        self._add = add
        self.problem_count = 0

    def problem(self, message: str, hint: str) -> None:
        """Report a problem of the settings file."""
        self.problem_count += 1
        self._add(message, hint, self.workspace.file.name if self.workspace.file else "")

    def services(self) -> dict[str, Service]:
        """The services that this environment may start: all, unless it or an environment that it
        extends lists them.
        """
        services = self.workspace.settings.service
        for name in reversed(self.chain):
            table = self.workspace.settings.env[name]
            if "services" in table:
                return {own: services[own] for own in table["services"]}
        return services

    def added_to(self, environment: Environment) -> Environment:
        """An environment with its readiness checks, and its services with all values filled in."""
        tables = [self.workspace.settings.env[name] for name in reversed(self.chain)]
        ready: object = next((table["ready"] for table in tables if "ready" in table), [])
        self.check_suites(environment)
        self.check_texts(f"environment {environment.name}: 'ready'", _texts(ready), environment)
        given = (table.get(VERSION) for table in tables)
        version = next((each for each in given if is_env_word(VERSION, each)), None)
        source = None
        if version is not None:
            source = read_version_source(version)
        if source:
            location = f"environment {environment.name}: 'version'"
            self.check_texts(location, source.texts, environment)
        plans = {}
        for name, service in self.services().items():
            texts = [*service.command, *map(str, service.env.values()), *_texts(service.ready)]
            if self.check_texts(f"service '{name}'", texts, environment, "port"):
                plans[name] = self.plan(name, service, environment)
        if self.problem_count:
            return environment
        probes = [probe.filled(environment.fill) for probe in read_probes(ready)]
        source = source.filled(environment.fill) if source else None
        return replace(environment, probes=probes, services=plans, version=source)

    def plan(self, name: str, service: Service, environment: Environment) -> ServicePlan:
        """The start of a service: parameters filled in, with its readiness checks."""
        port = environment.ports[name]

        def fill(text: object) -> str:
            return environment.fill(str(text), port)

        plan = ServicePlan(
            name=name,
            command=tuple(map(fill, service.command)),
            folder=self.workspace.root / service.folder,
            variables={
                **environment.exports,
                **{key: fill(text) for key, text in service.env.items()},
            },
            port=port,
            probes=tuple(
                probe.filled(fill) for probe in read_probes(service.ready or _by_port(service))
            ),
        )
        arguments = [*plan.command]
        for probe in plan.probes:
            if probe.way == "command":
                arguments += probe.target
        if any(environment.mask(argument) != argument for argument in arguments):
            message = (
                f"service '{name}': its command contains a secret, "
                f"and all processes on this machine could read it"
            )
            self.problem(message, "pass it through 'env'")
        return plan

    def check_suites(self, environment: Environment) -> None:
        """Every placeholder in the suites' own variables must be a parameter with a value."""
        if self.workspace.settings.param or environment.ports:
            for suite in self.workspace.suites:
                for variable, text in suite.env.items():
                    self.check_texts(f"suite '{suite.name}': {variable}", [str(text)], environment)
                kind = find_kind(suite.kind)
                if isinstance(kind, FillsSettings):
                    for key, value in kind.placeholders(suite).items():
                        location = f"suite '{suite.name}': '{key}'"
                        self.check_texts(location, _texts_in(value), environment)

    def check_texts(
        self, location: str, texts: Iterable[str], environment: Environment, *more: str
    ) -> bool:
        """Whether every placeholder in the texts has a value; reports those without one."""
        known = {*environment.values, *(f"{name}.port" for name in environment.ports), *more}
        before = self.problem_count
        for text in texts:
            for hole in HOLE.finditer(text):
                if hole[1] and hole[1] not in known:
                    declared = hole[1] in self.workspace.settings.param
                    if declared:
                        hint = self.ways
                    else:
                        hint = did_you_mean(hole[1], known)
                    reason = "which is not a parameter"
                    if declared:
                        reason = "which has no value"
                    self.problem(f"{location} contains {{{hole[1]}}}, {reason}", hint)
        return self.problem_count == before


def _by_port(service: Service) -> list[str]:
    """A service with a port counts as ready when something listens on it."""
    texts = [*service.command, *map(str, service.env.values())]
    if any("{port}" in text for text in texts):
        return ["tcp://127.0.0.1:{port}"]
    return []


def _texts_in(value: object) -> list[str]:
    """All texts in settings, at any depth."""
    if isinstance(value, str):
        return [value]
    inside = value.values() if isinstance(value, dict) else value
    return (
        []
        if not isinstance(inside, Iterable)
        else [text for item in inside for text in _texts_in(item)]
    )


def _texts(ready: object) -> list[str]:
    """All texts in which a readiness check may contain placeholders."""
    return [text for probe in read_probes(ready) for text in probe.target]
