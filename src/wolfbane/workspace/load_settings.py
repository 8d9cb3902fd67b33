"""The settings of load profiles."""

from __future__ import annotations

from typing import Literal

from wolfbane.basis.toml_tables import SettingsTable


class LoadStage(SettingsTable, frozen=True):
    """An entry of ``stages``: the users or the rate change evenly to this value during
    ``duration``.
    """

    duration: str
    users: int | None = None
    rate: str = ""


class LoadMix(SettingsTable, frozen=True):
    """An entry of ``mix``: the share of the workflows that match an expression.

    The ``weight`` is for all of them together.
    """

    match: str
    weight: float


class LoadProfile(SettingsTable, frozen=True):
    """``[load.NAME]``: a load profile.

    The keys have the names of the options; options override them.

    With a ``mix``, each time one workflow is selected by weight, instead of all in turn. ``rows``
    defines which data rows a workflow uses, if it has some: without it, all rows are used.
    """

    select: str = ""
    users: int | None = None
    ramp: str = ""
    loops: int | None = None
    duration: str = ""
    rate: str = ""
    arrivals: Literal["random", "even"] = "random"
    pause: str = ""
    order: Literal["given", "random"] = "given"
    contract: str = ""
    samples: Literal["all", "errors", "off"] = "all"
    limits: list[str] = []
    stop_if: list[str] = []
    stages: list[LoadStage] = []
    mix: list[LoadMix] = []
    rows: Literal["", "in turn", "at random", "once"] = ""
    help: str = ""
