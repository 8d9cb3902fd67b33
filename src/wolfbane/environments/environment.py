"""The environment of a run, with all values resolved."""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from wolfbane.environments.convert import Typed, as_text
from wolfbane.environments.mask import HIDDEN, Mask
from wolfbane.environments.sources import variable_line
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.probes import Probe
from wolfbane.workspace.version_source import VersionSource

HOLE = re.compile(r"\{\{|\}\}|\{([\w.-]+)\}")


class ParameterValue(msgspec.Struct, frozen=True):
    """The value of a parameter and its source. Suites get ``text``."""

    name: str
    value: Typed
    origin: str
    secret: bool = False

    @property
    def text(self) -> str:
        """In the form of an environment variable."""
        return as_text(self.value)

    @property
    def shown(self) -> str:
        """For display: a secret is masked."""
        if self.secret:
            return HIDDEN
        return self.text


class ServicePlan(msgspec.Struct, frozen=True):
    """A service in this environment: its command, variables, port and readiness checks."""

    name: str
    command: tuple[str, ...]
    folder: Path
    variables: Mapping[str, str]
    port: int
    probes: tuple[Probe, ...]


class Environment(msgspec.Struct, frozen=True):
    """A resolved environment. Without parameters it is empty and has no name.

    ``label`` is its name in the addresses of a run with several environments; otherwise, it is
    empty. ``version`` defines how to read the deployed version. ``forms`` are other forms of its
    secrets, ``patterns`` regular expressions for more texts that must not be shown.
    """

    name: str = ""
    values: Mapping[str, ParameterValue] = msgspec.field(default_factory=dict)
    exports: Mapping[str, str] = msgspec.field(default_factory=dict)
    ports: Mapping[str, int] = msgspec.field(default_factory=dict)
    probes: Sequence[Probe] = ()
    services: Mapping[str, ServicePlan] = msgspec.field(default_factory=dict)
    label: str = ""
    version: VersionSource | None = None
    forms: tuple[str, ...] = ()
    patterns: tuple[str, ...] = ()

    def shown(self) -> dict[str, str]:
        """Every value for display. Secrets inside other values are also masked."""
        mask = self.mask
        return {name: mask(value.shown) for name, value in self.values.items()}

    @property
    def secrets(self) -> list[str]:
        """The texts that must not be shown."""
        return [*(value.text for value in self.values.values() if value.secret), *self.forms]

    @property
    def mask(self) -> Mask:
        """Hides its secrets."""
        return mask_of([self])

    def variables(self, suite: Suite) -> dict[str, str]:
        """The environment variables of a suite's processes: exports, then its own ``env``."""
        own = {name: str(value) for name, value in suite.env.items()}
        if self.values or self.ports:
            own = {name: self.fill(text) for name, text in own.items()}
        return {**self.exports, **own}

    def fingerprint(self, suite: Suite) -> str:
        """The values, not files, that a build of the suite depends on; ports are new each time."""
        text = repr((suite.build, suite.folder, self.variables(suite)))
        for name, port in self.ports.items():
            text = text.replace(str(port), f"{{{name}.port}}")
        return text

    def fill(self, text: str, port: int | None = None) -> str:
        """Replace ``{name}`` and ``{port}`` with values.

        Raises KeyError with an unknown name.
        """
        return HOLE.sub(lambda hole: self._in_place(hole, port), text)

    def filled(self, value: Any) -> Any:
        """Settings with the values inserted in all their texts. Raises KeyError."""
        if isinstance(value, str) and (self.values or self.ports):
            return self.fill(value)
        if isinstance(value, list):
            return [self.filled(item) for item in value]
        if isinstance(value, Mapping):
            return {key: self.filled(item) for key, item in value.items()}
        return value

    def _in_place(self, hole: re.Match[str], port: int | None) -> str:
        name = hole[1]
        if not name:
            return hole[0][0]
        if name == "port" and port is not None:
            return str(port)
        service = name.removesuffix(".port")
        if service in self.ports:
            return str(self.ports[service])
        return self.values[name].text

    def as_file(self, form: str) -> str:
        """Every value as ``json``, or as the lines of a ``.env`` file: ``API_URL='...'``."""
        if form == "json":
            return json.dumps(self._nested(), indent=1) + "\n"
        return "".join(
            variable_line(re.sub(r"[^A-Z0-9]", "_", name.upper()), value.text)
            for name, value in self.values.items()
        )

    def _nested(self) -> dict[str, Any]:
        """Nested names as nested tables."""
        whole: dict[str, Any] = {}
        for name, value in self.values.items():
            *groups, last = name.split(".")
            table = whole
            for group in groups:
                table = table.setdefault(group, {})
            table[last] = value.value
        return whole


def mask_of(environments: Collection[Environment]) -> Mask:
    """Hides the secrets of several environments."""
    secrets = (secret for each in environments for secret in each.secrets)
    return Mask(secrets, {pattern for each in environments for pattern in each.patterns})
