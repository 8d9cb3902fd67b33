"""The options of a load test, declared once for the command line and for the load test itself."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from random import SystemRandom

import msgspec

from wolfbane.basis.units import rate, seconds
from wolfbane.errors import InputError, Problem
from wolfbane.load.limits import Limit, read_limit
from wolfbane.setup.run_option import REPORT, option

LOAD, LIMITS = "Load", "Limits"
"""The groups that help shows options in."""
MOST_UNDER_WAY = 100
"""Default number of users of a load test with a rate."""
FEW_USERS = 10
"""Up to this number of users, all responses of a closed load are checked against the contract."""
_PERCENT = re.compile(r"(\d+(?:\.\d+)?)\s*%")


class LoadShape(msgspec.Struct, frozen=True):
    """The shape of the load over time, in seconds.

    ``points`` are users, or workflows per second if it is ``open``: the value changes evenly from
    one point to the next. ``users`` is the maximum at a time. Nothing starts after ``until``; if it
    is None, each user runs everything ``loops`` times.
    """

    points: tuple[tuple[float, float], ...]
    users: int
    open: bool
    until: float | None
    loops: int


@dataclass(frozen=True)
class LoadRequest:
    """How to load-test the selected workflows. Times are in seconds."""

    users: int | None = option(
        LOAD,
        "--users",
        value="N",
        at_least=1,
        help="Number of concurrent users. Each has its own cookies "
        "and connections. With --rate: the maximum number of "
        "concurrent workflows. [default: 1; with --rate: 100]",
    )
    ramp: float | None = option(
        LOAD,
        "--ramp",
        value="TIME",
        is_time=True,
        help="Start the users gradually over this time. With --rate: raise the rate gradually.",
    )
    loops: int | None = option(
        LOAD,
        "--loops",
        value="N",
        at_least=1,
        help="Each user runs all workflows N times. [default without --for: 1]",
    )
    duration: float | None = option(
        LOAD,
        "--for",
        value="TIME",
        is_time=True,
        help="Start no new workflows after this time. The time includes the ramp.",
    )
    rate: str = option(
        LOAD,
        "--rate",
        value="N/s",
        default="",
        help="Start workflows at this rate, even if earlier ones are still running: 40/s, 90/m.",
    )
    arrivals: str = option(
        LOAD,
        "--arrivals",
        choices=("random", "even"),
        default="random",
        help="With --rate: use random start times (a Poisson process), or evenly spaced ones.",
    )
    pause: str = option(
        LOAD,
        "--pause",
        value="TIME[..TIME]",
        default="",
        help="The pause of a user after each workflow: 2s, or a random time from a range: 1s..3s.",
    )
    order: str = option(
        LOAD,
        "--order",
        choices=("given", "random"),
        default="given",
        help="The order of the workflows: as in the documents, or random.",
    )
    seed: int | None = option(
        LOAD,
        "--seed",
        value="N",
        help="The seed for random choices. Each load test prints its seed.",
    )
    contract: str = option(
        LOAD,
        "--contract",
        value="N%",
        default="",
        help="Check this percentage of the responses against the API description. "
        "[default: 1%; 100% for up to {FEW_USERS} users]",
    )
    limits: tuple[str, ...] = option(
        LIMITS,
        "--limit",
        value="LIMIT",
        several=True,
        default=(),
        help="Fail the run if this limit is not met: "
        "'p95 < 300ms', 'errors < 1%', 'book: p99 < 1s'.",
    )
    stop_if: tuple[str, ...] = option(
        LIMITS,
        "--stop-if",
        value="LIMIT",
        several=True,
        default=(),
        help="Stop the load test early when this condition is true: 'errors > 20%'.",
    )
    samples: str = option(
        REPORT,
        "--samples",
        choices=("all", "errors", "off"),
        default="all",
        help="The requests to write to samples.csv.gz in the folder of the run.",
    )
    every: float = option(
        REPORT,
        "--every",
        value="TIME",
        is_time=True,
        default=10.0,
        help="The interval between progress lines if the output is not a terminal. [default: 10s]",
    )
    profile: str = option(
        LOAD,
        "--profile",
        value="NAME",
        default="",
        help="Use the load profile [load.NAME] of wolfbane.toml. Other options override it.",
    )
    stages: tuple[tuple[float, float], ...] = ()
    """Seconds from the start, and the users or the rate at that time."""
    staged_rate: bool = False
    mix: tuple[tuple[str, float], ...] = ()
    rows: str = ""
    read_limits: tuple[Limit, ...] = field(default=(), init=False)
    read_stops: tuple[Limit, ...] = field(default=(), init=False)

    def __post_init__(self) -> None:
        """Raises InputError for values that cannot be read, or that cannot be used together."""
        object.__setattr__(self, "read_limits", tuple(map(read_limit, self.limits)))
        object.__setattr__(self, "read_stops", tuple(map(read_limit, self.stop_if)))
        self.shape()
        self.pauses()
        self.contract_share()

    def shape(self) -> LoadShape:
        """The load over time."""
        ramp, until = self.ramp or 0.0, self.duration
        if self.stages:
            return self._staged()
        if self.rate:
            return self._open(ramp, until)
        if until is not None and self.loops is not None:
            raise _wrong("--for and --loops cannot be used together; use only one of them")
        if until is not None and ramp >= until:
            raise _wrong(f"--ramp {ramp:g}s must be shorter than --for {until:g}s")
        users = self.users or 1
        start = ((0.0, 0.0), (ramp, float(users))) if ramp else ((0.0, float(users)),)
        return LoadShape(
            points=start,
            users=users,
            open=False,
            until=until,
            loops=0 if until else self.loops or 1,
        )

    def _staged(self) -> LoadShape:
        if self.stages[0][0] == 0:
            points = self.stages
        else:
            points = ((0.0, 0.0), *self.stages)
        most = max(value for _, value in points)
        if not most:
            raise _wrong(
                f"the stages of load profile '{self.profile}' "
                f"start no users; set users or a rate above zero"
            )
        end = points[-1][0]
        if self.staged_rate:
            return LoadShape(
                points=points, users=self.users or MOST_UNDER_WAY, open=True, until=end, loops=0
            )
        return LoadShape(points=points, users=int(most), open=False, until=end, loops=0)

    def _open(self, ramp: float, until: float | None) -> LoadShape:
        top = read_rate(self.rate)
        if self.loops is not None:
            raise _wrong("--loops cannot be used with --rate; use --for instead")
        if until is None:
            raise _wrong("--rate needs --for, the duration of the load test")
        if ramp >= until:
            raise _wrong(f"--ramp {ramp:g}s must be shorter than --for {until:g}s")
        start = ((0.0, 0.0), (ramp, top)) if ramp else ((0.0, top),)
        return LoadShape(
            points=start, users=self.users or MOST_UNDER_WAY, open=True, until=until, loops=0
        )

    def pauses(self) -> tuple[float, float]:
        """The shortest and the longest pause after a workflow."""
        if not self.pause:
            return 0.0, 0.0
        low, _, high = self.pause.partition("..")
        try:
            pause = seconds(low), seconds(high or low)
        except ValueError as error:
            raise _wrong(f"--pause '{self.pause}': {error}") from None
        if pause[0] > pause[1]:
            raise _wrong(f"--pause '{self.pause}': the end of the range is smaller than its start")
        return pause

    def contract_share(self) -> float:
        """The part of the responses that is checked against the contract, from 0 to 1."""
        if not self.contract:
            few = not self.rate and (self.users or 1) <= FEW_USERS
            if few:
                return 1.0
            return 0.01
        match = _PERCENT.fullmatch(self.contract.strip())
        if match is None or float(match[1]) > 100:
            raise _wrong(
                f"--contract '{self.contract}' is not a percentage (for example 0%, 1% or 100%)"
            )
        return float(match[1]) / 100

    def settled_seed(self) -> int:
        """The seed that was given, or a new one."""
        if self.seed is None:
            return SystemRandom().randrange(1_000_000)
        return self.seed


def read_rate(text: str) -> float:
    """Workflows per second, more than zero. Raises InputError."""
    try:
        value = rate(text)
    except ValueError as error:
        raise _wrong(str(error)) from None
    if not value:
        raise _wrong(f"the rate '{text}' must be greater than zero")
    return value


def _wrong(message: str) -> InputError:
    return InputError(Problem(message))
