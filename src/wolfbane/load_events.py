"""The typed events of a load test."""

from __future__ import annotations

import msgspec

from wolfbane.model import LoadRow


class LoadMachine(msgspec.Struct, frozen=True):
    """A machine of a load, and how many processes of it are there.

    Its clock was set to within ``clock_error`` seconds.
    """

    name: str
    processes: int
    clock_error: float = 0.0


class LoadStarted(msgspec.Struct, frozen=True, tag_field="type", tag="load-started"):
    """A load test starts.

    ``points`` are seconds and users, or rates per second where it is ``open``.

    ``users`` is the most at a time; ``until`` is None where each user takes everything ``loops``
    times. ``contract`` is the share of answers that are checked. ``keys`` are the workflows and
    steps, in their order. ``machines`` is empty for a load of this machine.
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

    ``lag`` is the longest that an event loop was late, ``cpu`` the most that one process used of a
    processor, both in seconds. ``late`` workflows began later than they were due.
    """

    second: int
    users: int
    rows: tuple[LoadRow, ...]
    lag: float
    cpu: float
    late: int


class LoadError(msgspec.Struct, frozen=True, tag_field="type", tag="load-error"):
    """The first error of a kind; ``exchange`` is the file that has its request and answer."""

    workflow: str
    step: str
    kind: str
    message: str
    exchange: str = ""


class LoadFinished(msgspec.Struct, frozen=True, tag_field="type", tag="load-finished"):
    """A load test has ended. ``unstarted`` workflows were due but did not start.

    ``limited`` says how the generator itself was the limit, if it was. ``limits`` has each limit
    with whether it held and what was measured.
    """

    seconds: float
    late: int
    unstarted: int
    limited: str = ""
    limits: tuple[tuple[str, bool, str], ...] = ()
    trouble: str = ""
