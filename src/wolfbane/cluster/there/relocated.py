"""Adapts environments to a machine: its own folders, and free ports."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from wolfbane.basis.this_machine import free_ports
from wolfbane.cluster.messages import MachineJob
from wolfbane.environments import Environment


def environments_here(job: MachineJob, root: Path) -> list[Environment]:
    """The environments of a run, with services in this machine's folder and with ports that are
    free on it.

    A port from the settings does not change.
    """
    given = {name for name, service in job.workspace.settings.service.items() if service.port}
    return [_here(each, given, job.workspace.root, root=root) for each in job.environments]


def _here(environment: Environment, given: set[str], there: Path, root: Path) -> Environment:
    fresh = free_ports(name for name in environment.ports if name not in given)
    moves = {str(environment.ports[name]): str(port) for name, port in fresh.items()}
    services = {
        name: replace(plan, folder=root / plan.folder.relative_to(there))
        for name, plan in environment.services.items()
    }
    moved = replace(environment, services=services)
    if moves:
        return _with_ports(moved, moves)
    return moved


def _with_ports(environment: Environment, moves: dict[str, str]) -> Environment:
    """Every text of an environment with other ports."""
    pattern = re.compile(r"(?<!\d)(" + "|".join(map(re.escape, moves)) + r")(?!\d)")

    def moved(value: object) -> object:
        if isinstance(value, str):
            return pattern.sub(lambda match: moves[match[1]], value)
        if isinstance(value, dict):
            return {key: moved(item) for key, item in value.items()}
        if isinstance(value, list | tuple):
            return type(value)(moved(item) for item in value)
        if isinstance(value, msgspec.Struct):
            fields: Sequence[str] = value.__struct_fields__
            return replace(value, **{name: moved(getattr(value, name)) for name in fields})
        if isinstance(value, int) and not isinstance(value, bool) and str(value) in moves:
            return int(moves[str(value)])
        return value

    relocated = moved(environment)
    assert isinstance(relocated, Environment)
    return relocated
