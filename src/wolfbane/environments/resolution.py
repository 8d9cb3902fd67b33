"""Resolves the value of every parameter, and records its source.

Later sources override earlier ones: the parameter's default; the environment that the selected one
extends, first its files, then its own values; the selected environment, in the same order;
``--set`` on the command line.
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import msgspec

from wolfbane.basis.this_machine import free_ports
from wolfbane.environments.convert import convert
from wolfbane.environments.environment import HOLE, Environment, ParameterValue
from wolfbane.environments.mask import Mask
from wolfbane.environments.service_plans import ServicePlanner
from wolfbane.environments.sources import STRUCTURED, from_source, is_source, read_values
from wolfbane.errors import InputError, Problem, did_you_mean, nearest
from wolfbane.workspace.settings import Workspace
from wolfbane.workspace.vocabulary import is_env_word


class _Raw(msgspec.Struct, frozen=True):
    """A value as written. Placeholders are filled only in wolfbane.toml itself."""

    value: object
    origin: str
    fill: bool = False


class Resolution:
    """Resolves one environment, and collects its errors."""

    def __init__(
        self, workspace: Workspace, name: str, given: Sequence[str], one_of: Mapping[str, str]
    ) -> None:
        self.workspace, self.name, self.given, self.one_of = workspace, name, given, one_of
        self.parameters = workspace.settings.param
        self.file = workspace.file.name if workspace.file else ""
        self.problems: list[Problem] = []
        self.raw: dict[str, _Raw] = {}
        self.values: dict[str, ParameterValue] = {}
        self.ports: dict[str, int] = {}
        self.with_port: set[str] = set()
        self.faulty: set[str] = set()
        """Parameters with known problems, so they are not also reported as missing."""

    def run(self) -> Environment:
        """The environment. Raises InputError with every problem."""
        self.gather()
        for name, value in self.one_of.items():
            self.raw[name] = _Raw(value, "--spread")
        chain = self.chain(self.name)
        around = ServicePlanner(self.workspace, chain, self.add, ways=self.ways())
        services = around.services()
        free = free_ports(name for name, service in services.items() if not service.port)
        self.ports = {name: service.port or free[name] for name, service in services.items()}
        for name in list(self.raw):
            self.settle(name, ())
        self.check_missing()
        environment = Environment(
            name=self.name, values=self.values, exports=self.exports(), ports=self.ports
        )
        if not self.problems:
            environment = around.added_to(environment)
        self.raise_problems(environment.mask)
        return environment

    def several(self, spread: Sequence[str]) -> dict[str, list[str]]:
        """The values of the parameters that a run is spread over, before their conversion."""
        self.gather()
        values: dict[str, list[str]] = {}
        for name in spread:
            raw = self.raw[name].value if name in self.raw else ""
            texts = raw if isinstance(raw, list) else str(raw).split(",")
            values[name] = list(dict.fromkeys(text.strip() for text in texts if text.strip()))
            if name not in self.parameters:
                self.add(f"--spread: there is no parameter '{name}'{self.like(name)}")
            elif self.parameters[name].secret:
                self.add(f"--spread: '{name}' is a secret and cannot be part of an address")
            elif not values[name]:
                hint = f"give several values: --set {name}=A,B"
                self.add(f"--spread: '{name}' has no value", hint)
        self.raise_problems(Mask(()))
        return values

    def like(self, name: str) -> str:
        """A hint with the nearest parameter."""
        hint = did_you_mean(name, self.parameters)
        return f"; {hint}" if hint else ""

    def raise_problems(self, mask: Mask) -> None:
        """Raise InputError with all problems, and with masked secrets."""
        if self.problems:
            raise InputError(*(p._replace(message=mask(p.message)) for p in self.problems))

    def gather(self) -> None:
        """All values, with later sources overriding earlier ones."""
        for name, parameter in self.parameters.items():
            if parameter.default is not None:
                self.raw[name] = _Raw(parameter.default, "default", fill=True)
        for name in self.chain(self.name):
            self.take_environment(name)
        for text in self.given:
            self.take_given(text)

    def add(self, message: str, hint: str = "", file: str = "") -> None:
        """Remember a problem."""
        self.problems.append(Problem(message, file, hint=hint))

    def chain(self, name: str) -> list[str]:
        """The environments that lead to this one, the outermost first."""
        environments = self.workspace.settings.env
        chain: list[str] = []
        while name:
            if name not in environments:
                hint = did_you_mean(name, environments)
                self.add(f"there is no environment '{name}'", hint, self.file if chain else "")
                self.faulty.update(self.parameters)
                break
            if name in chain:
                self.add(f"environment '{name}' extends itself", file=self.file)
                break
            chain.append(name)
            name = str(environments[name].get("extends", ""))
        return chain[::-1]

    def take_environment(self, name: str) -> None:
        """Read the values of an environment: from its files, then from its table."""
        table = self.workspace.settings.env[name]
        files = table.get("values_from", [])
        for path in [files] if isinstance(files, str) else files:
            try:
                from_file = read_values(self.workspace.home / path)
            except ValueError as error:
                self.add(str(error), file=path)
            else:
                if Path(path).suffix.lower() not in STRUCTURED:
                    from_file = {
                        self.by_variable.get(name, name): v for name, v in from_file.items()
                    }
                self.take(from_file, path, path, fill=False)
        self.take(table, f"environment {name}", self.file, fill=True)

    @cached_property
    def by_variable(self) -> dict[str, str]:
        """Parameters by the variables that they are exported to, for ``.env`` files."""
        variables = {}
        for name, parameter in self.parameters.items():
            exported = parameter.export
            for variable in [exported] if isinstance(exported, str) else exported:
                variables[variable] = name
        return {variable: name for variable, name in variables.items() if variable}

    def take(self, table: Mapping[str, Any], origin: str, file: str, *, fill: bool) -> None:
        """Add values by dotted name; later ones override."""
        for name, value in by_dotted_name(table, self.parameters):
            if name not in self.parameters:
                self.add(f"{origin}: there is no parameter '{name}'", self.meant(name), file)
            elif is_source(value):
                try:
                    text, where = from_source(value, self.workspace.home)
                except ValueError as error:
                    self.faulty.add(name)
                    self.add(f"{origin}: '{name}' {error}", file=file)
                else:
                    self.raw[name] = _Raw(text, f"{origin}, {where}")
            else:
                self.raw[name] = _Raw(value, origin, fill)

    def meant(self, name: str) -> str:
        """A hint for an unknown name. The parameter that was meant does not count as missing."""
        if close := nearest(name, self.parameters):
            self.faulty.add(close)
        return did_you_mean(name, self.parameters)

    def take_given(self, text: str) -> None:
        """Read a value from ``--set KEY=VALUE``."""
        name, equals, value = text.partition("=")
        if not equals:
            self.add(f"--set '{text}': expected KEY=VALUE")
        elif name not in self.parameters:
            self.add(f"--set: there is no parameter '{name}'", self.meant(name))
        elif value.startswith("@"):
            try:
                content = Path(value[1:]).read_text(encoding="utf-8").rstrip("\n")
            except (OSError, UnicodeDecodeError) as error:
                self.faulty.add(name)
                self.add(f"--set {name}: cannot read the file: {error}")
            else:
                self.raw[name] = _Raw(content, f"--set, file {value[1:]}")
        else:
            self.raw[name] = _Raw(value, "--set")

    def settle(self, name: str, above: tuple[str, ...]) -> None:
        """Fill a value's placeholders, first the nested ones, and convert it to its type."""
        if name in self.values or name not in self.raw:
            return
        raw, origin = self.raw[name].value, self.raw[name].origin
        if self.raw[name].fill:
            raw = self.filled(raw, name, above)
        parameter = self.parameters[name]
        try:
            value = convert(parameter, raw, self.workspace.home)
        except ValueError as error:
            message = "has an invalid value" if parameter.secret else str(error)
            self.faulty.add(name)
            self.add(f"parameter '{name}' ({origin}) {message}")
            self.raw.pop(name)
        else:
            if name in self.with_port:
                origin += ", with a port that is free now"
            self.values[name] = ParameterValue(name, value, origin, secret=parameter.secret)

    def filled(self, raw: object, name: str, above: tuple[str, ...]) -> object:
        """A raw value with its parameters filled in."""
        if isinstance(raw, list):
            return [self.filled(item, name, above) for item in raw]
        if not isinstance(raw, str):
            return raw
        return HOLE.sub(lambda hole: self.inside(hole, name, above), raw)

    def inside(self, hole: re.Match[str], name: str, above: tuple[str, ...]) -> str:
        """The text of one parameter inside another."""
        other = hole[1]
        if not other:
            return hole[0][0]
        service = other.removesuffix(".port")
        if service in self.ports:
            self.with_port.add(name)
            return str(self.ports[service])
        if other in (name, *above):
            self.add(f"parameter '{name}' refers to itself", file=self.file)
        elif other not in self.parameters:
            message = f"parameter '{name}' contains {{{other}}}, which is not a parameter"
            self.add(message, did_you_mean(other, self.parameters), self.file)
        else:
            self.settle(other, (name, *above))
            if other in self.values:
                return self.values[other].text
        return hole[0]

    def check_missing(self) -> None:
        """Report required parameters without a value."""
        for name, parameter in self.parameters.items():
            if parameter.required and name not in self.raw and name not in self.faulty:
                what = f" ({parameter.help})" if parameter.help else ""
                self.add(f"parameter '{name}' has no value{what}", self.ways())

    def ways(self) -> str:
        """The ways to give a value in this place."""
        if self.name or not (environments := self.workspace.settings.env):
            return "set it with --set"
        return f"choose an environment with --env: {', '.join(environments)}"

    def exports(self) -> dict[str, str]:
        """The environment variables that parameters are exported as."""
        variables = {}
        for name, value in self.values.items():
            exported = self.parameters[name].export
            for variable in [exported] if isinstance(exported, str) else exported:
                variables[variable] = value.text
        return variables


def by_dotted_name(
    table: Mapping[str, Any], parameters: Container[str], prefix: str = ""
) -> Iterator[tuple[str, Any]]:
    """The values of an environment's table: groups are flattened to declared parameters."""
    for key, value in table.items():
        name = f"{prefix}{key}"
        if not prefix and is_env_word(key, value):
            continue
        if isinstance(value, dict) and name not in parameters and not is_source(value):
            yield from by_dotted_name(value, parameters, f"{name}.")
        else:
            yield name, value


def hosts_for_load(workspace: Workspace, name: str) -> list[str]:
    """The hosts in an environment's own values, if it allows load tests.

    Values from ``--set`` are not included: only the settings allow hosts for load tests.
    """
    if not workspace.settings.env.get(name, {}).get("load"):
        return []
    resolution = Resolution(workspace, name, (), one_of={})
    resolution.gather()
    for each in list(resolution.raw):
        resolution.settle(each, ())
    texts = [str(value.value) for value in resolution.values.values()]
    hosts = [urlsplit(text).hostname for text in texts if text.startswith(("http://", "https://"))]
    return list(dict.fromkeys(filter(None, hosts)))
