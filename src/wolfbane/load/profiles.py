"""Load profiles: the settings in ``[load.NAME]``, overridden by the given options."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from wolfbane.basis.units import rate, seconds
from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.load.load_request import LoadRequest
from wolfbane.model import NESTED, Test
from wolfbane.selection import Matcher, parse
from wolfbane.workspace.load_settings import LoadProfile, LoadStage
from wolfbane.workspace.settings import Workspace

_SHAPE = ("users", "ramp", "loops", "duration", "rate")
"""Options that replace a profile's stages."""
_TIMES = ("ramp", "duration")
_LISTS = ("limits", "stop_if")
_SAME = ("users", "loops", "rate", "arrivals", "pause", "order", "contract", "samples", "rows")


def find_profile(workspace: Workspace, name: str) -> LoadProfile:
    """The profile of that name. Raises InputError."""
    profiles = workspace.settings.load
    if name not in profiles:
        hint = did_you_mean(name, profiles)
        raise InputError(Problem(f"there is no load profile '{name}' in wolfbane.toml", hint=hint))
    return profiles[name]


def with_profile(profile: LoadProfile, name: str, given: Mapping[str, Any]) -> LoadRequest:
    """The request from a profile and the given options. Raises InputError."""
    values: dict[str, Any] = {key: getattr(profile, key) for key in _SAME}
    values |= {key: tuple(getattr(profile, key)) for key in _LISTS}
    try:
        values |= {key: seconds(text) for key in _TIMES if (text := getattr(profile, key))}
        if profile.stages and not any(key in given for key in _SHAPE):
            values |= _staged(profile.stages, name)
    except ValueError as error:
        raise InputError(Problem(f"load profile '{name}': {error}")) from None
    values["mix"] = tuple((entry.match, entry.weight) for entry in profile.mix)
    if "loops" in given:
        values.pop("duration", None)
    if "duration" in given:
        values["loops"] = None
    return LoadRequest(**{**values, **given, "profile": name})


def _staged(stages: Sequence[LoadStage], name: str) -> dict[str, Any]:
    """The stages as points in time. Raises InputError if users and rates are mixed."""
    rated = [bool(stage.rate) for stage in stages]
    if any(rated) and not all(rated):
        message = f"load profile '{name}': use users in all stages, or a rate in all stages"
        raise InputError(Problem(message))
    points: list[tuple[float, float]] = []
    now = 0.0
    for number, stage in enumerate(stages, 1):
        now += seconds(stage.duration)
        if stage.rate:
            value = rate(stage.rate)
        elif stage.users is not None and stage.users >= 0:
            value = float(stage.users)
        else:
            message = f"load profile '{name}': stage {number} needs users or a rate"
            raise InputError(Problem(message))
        points.append((now, value))
    return {"stages": tuple(points), "staged_rate": all(rated)}


def weights_of(mix: Sequence[tuple[str, float]], tests: Sequence[Test]) -> dict[str, float]:
    """How often each test is taken, by address; empty without a mix. Raises InputError.

    A weight is divided among the workflows that it matches, whatever number of rows they have, and
    then among the rows of each.
    """
    weights: dict[str, float] = {}
    for expression, weight in mix:
        matches = Matcher(parse(expression), {})
        matching = [test.worker_address for test in tests if matches(test)]
        if not matching or weight <= 0:
            why = "is for an expression that matches none of the selected workflows"
            if matching:
                why = "must be greater than zero"
            raise InputError(Problem(f"the weight {weight:g} of '{expression}' {why}"))
        rows: dict[str, list[str]] = {}
        for address in matching:
            rows.setdefault(address.partition(NESTED)[0], []).append(address)
        for addresses in rows.values():
            for address in addresses:
                part = weight / len(rows) / len(addresses)
                weights[address] = weights.get(address, 0.0) + part
    return weights
