"""The messages of a worker that runs a share of a load test."""

from __future__ import annotations

import msgspec

from wolfbane.model import LoadRow
from wolfbane.workers.message_data import Message, PartData, Seconds, WorkerOutcome


class LoadLookedMessage(Message, frozen=True, tag="load-looked", forbid_unknown_fields=True):
    """A preview of a load test: the targets of its requests, and the tests that cannot run.

    ``wrong`` has an address, an outcome and a message for each invalid test. ``keys`` are the
    workflows and their steps; a workflow itself has no step.
    """

    addresses: tuple[str, ...]
    keys: tuple[tuple[str, str], ...]
    wrong: tuple[tuple[str, str, str], ...]


class LoadSecondMessage(Message, frozen=True, tag="load-second", forbid_unknown_fields=True):
    """One second of a load test in one process.

    ``users`` is the highest number of running users. ``lag`` is the longest delay of its event loop
    and ``cpu`` its processor time, both in seconds; ``late`` counts workflows that started later
    than planned. ``samples`` are rows of CSV.
    """

    second: int
    users: int
    rows: tuple[LoadRow, ...]
    samples: str
    lag: Seconds
    cpu: Seconds
    late: int


class LoadErrorMessage(Message, frozen=True, tag="load-error", forbid_unknown_fields=True):
    """The first error of a kind at a step, with its exchange as HAR, if there was one."""

    workflow: str
    step: str
    kind: str
    message: str
    exchange: str


class TestUnderLoad(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The result of a test under load: its runs and failures, with its first or worst run.

    ``seconds`` is the sum over all runs.
    """

    address: str
    count: int
    failed: int
    seconds: Seconds
    outcome: WorkerOutcome
    message: str
    line: int
    parts: tuple[PartData, ...]


class LoadedMessage(Message, frozen=True, tag="loaded", forbid_unknown_fields=True):
    """A load test has ended.

    ``unstarted`` workflows did not start; ``refused`` is a URL that must not be used. ``said`` are
    further messages for the user.
    """

    seconds: Seconds
    unstarted: int
    tests: tuple[TestUnderLoad, ...]
    refused: str = ""
    said: tuple[str, ...] = ()
