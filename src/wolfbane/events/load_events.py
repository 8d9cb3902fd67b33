"""The typed events of a load test."""

from __future__ import annotations

import msgspec

from wolfbane.model import LoadRow


class LoadMachine(msgspec.Struct, frozen=True):
    """A machine of a load test, and the number of its processes.

    Its clock was synchronised to within ``clock_error`` seconds.
    """

    name: str
    processes: int
    clock_error: float = 0.0


class LoadStarted(msgspec.Struct, frozen=True, tag_field="type", tag="load-started"):
    """A load test starts.

    ``points`` are seconds and users, or rates per second if it is ``open``.

    ``users`` is the maximum at a time; ``until`` is None if each user runs everything ``loops``
    times. ``contract`` is the part of the responses that is checked. ``keys`` are the workflows and
    steps, in order. ``machines`` is empty for a load test on this machine.
    """

    points: tuple[tuple[float, float], ...]
    open: bool
    users: int
    until: float | None
    loops: int
    pause: tuple[float, float]
    order: str
    seed: int
    processes: int
    contract: float
    addresses: tuple[str, ...]
    limits: tuple[str, ...]
    samples: str
    keys: tuple[tuple[str, str], ...]
    machines: tuple[LoadMachine, ...] = ()


class LoadSecond(msgspec.Struct, frozen=True, tag_field="type", tag="load-second"):
    """One second of a load test, for all processes in total.

    ``lag`` is the longest delay of an event loop, ``cpu`` the highest processor use of one process,
    both in seconds. ``late`` workflows started later than planned.
    """

    second: int
    users: int
    rows: tuple[LoadRow, ...]
    lag: float
    cpu: float
    late: int


class LoadError(msgspec.Struct, frozen=True, tag_field="type", tag="load-error"):
    """The first error of a kind; ``exchange`` is the file with its request and response."""

    workflow: str
    step: str
    kind: str
    message: str
    exchange: str = ""


class LoadFinished(msgspec.Struct, frozen=True, tag_field="type", tag="load-finished"):
    """A load test has ended. ``unstarted`` workflows were due but did not start.

    ``limited`` is the reason if the generator itself was the bottleneck. ``limits`` contains each
    limit, whether it was met, and the measured value.
    """

    seconds: float
    late: int
    unstarted: int
    limited: str = ""
    limits: tuple[tuple[str, bool, str], ...] = ()
    trouble: str = ""
