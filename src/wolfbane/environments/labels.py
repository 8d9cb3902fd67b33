"""Labels of environments at the end of addresses: ``PATH#NAME @staging,machine=quay2``."""

from __future__ import annotations

import re
from collections.abc import Sequence

import msgspec
from msgspec.structs import replace

from wolfbane.environments.environment import Environment
from wolfbane.environments.resolve import resolve_each
from wolfbane.workspace.settings import Workspace

_LABEL = re.compile(r".+ @([^@#]+)")


class Labels(msgspec.Struct, frozen=True):
    """The environments in addresses: an environment, and parameters with values."""

    environments: tuple[tuple[str, tuple[str, ...]], ...] = ()

    def __bool__(self) -> bool:
        return bool(self.environments)

    def resolve(self, workspace: Workspace, given: Sequence[str]) -> list[Environment]:
        """All of them, with labels. Raises InputError."""
        environments = []
        for name, values in self.environments:
            label = ",".join([name, *values] if name else values)
            for environment in resolve_each(workspace, name, [*given, *values]):
                environments.append(replace(environment, label=label))
        return environments


def read_labels(workspace: Workspace, paths: Sequence[str]) -> Labels:
    """The labels in these paths; a last word that is not an environment is not a label."""
    labels: dict[tuple[str, tuple[str, ...]], None] = {}
    for path in paths:
        match = _LABEL.fullmatch(path)
        first, *more = match[1].split(",") if match else [""]
        name = ""
        if first in workspace.settings.env:
            name = first
        if name:
            values = more
        else:
            values = [first, *more]
        if all(value.partition("=")[0] in workspace.settings.param for value in values):
            labels[name, tuple(values)] = None
    return Labels(tuple(labels))
