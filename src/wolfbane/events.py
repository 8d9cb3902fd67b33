"""What happens in a run, as typed events. Listeners are the console, the journal, the record."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from wolfbane.model import LoadRow, Result


class Target(msgspec.Struct, frozen=True):
    """What a run is pointed at: an environment with its values, secrets masked."""

    label: str
    environment: str
    parameters: dict[str, str]


class Quarantined(msgspec.Struct, frozen=True):
    """Why a test's failure does not fail the run, for how long, and until when.

    ``over``: its date is past, and that does fail the run.
    """

    because: str
    days: int
    until: str = ""
    owner: str = ""
    ticket: str = ""
    over: bool = False


class RunStarted(msgspec.Struct, frozen=True, tag_field="type", tag="run-started"):
    """A run begins: what was chosen, where it runs, what was left out and why.

    ``pointed`` are the arguments that point a run of single tests at the same place;
    ``version`` is Wolfbane's. ``without_tests`` are the files that suites of the run name and
    that hold no test, ``unclaimed`` those that look like tests and belong to no suite, and
    ``workspaces`` folders with settings of their own, both where suites were detected.
    """

    run: str
    workspace: str
    began: str
    command: str
    expression: str
    leave_out: str
    left_out: dict[str, int]
    tests: int
    files: dict[str, int]
    suites: dict[str, int]
    jobs: int
    order: str
    runtimes: dict[str, str]
    targets: tuple[Target, ...] = ()
    pulled_in: dict[str, str] = msgspec.field(default_factory=dict)
    documents: dict[str, str] = msgspec.field(default_factory=dict)
    browsers: tuple[str, ...] = ()
    visible: bool = False
    quarantined: dict[str, Quarantined] = msgspec.field(default_factory=dict)
    neglected: tuple[str, ...] = ()
    focused: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    without_tests: tuple[str, ...] = ()
    unclaimed: tuple[str, ...] = ()
    workspaces: tuple[str, ...] = ()
    pointed: tuple[str, ...] = ()
    version: str = ""


class Building(msgspec.Struct, frozen=True, tag_field="type", tag="building"):
    """A build command of a suite begins."""

    suite: str
    command: str


class Starting(msgspec.Struct, frozen=True, tag_field="type", tag="starting"):
    """A service is started, and waited for."""

    service: str
    port: int
    target: str = ""


class Collecting(msgspec.Struct, frozen=True, tag_field="type", tag="collecting"):
    """Files are being asked for their exact tests."""

    done: int
    total: int


class TestStarted(msgspec.Struct, frozen=True, tag_field="type", tag="test-started"):
    """An attempt begins."""

    address: str
    suite: str


class Commanded(msgspec.Struct, frozen=True, tag_field="type", tag="commanded"):
    """A command of a test to its browser, as a sentence; ``seconds`` is how long it took."""

    address: str
    browser: str
    sentence: str
    answer: str
    seconds: float


class TestRetried(msgspec.Struct, frozen=True, tag_field="type", tag="test-retried"):
    """An attempt ended badly, and the test will run again."""

    result: Result


class TestFinished(msgspec.Struct, frozen=True, tag_field="type", tag="test-finished"):
    """A test ended, after all of its attempts.

    ``extra``: it came up in the run and was not in its plan.
    """

    result: Result
    extra: bool = False


class Exercised(msgspec.Struct, frozen=True):
    """An operation of an API that was called: its description, name, status and media type."""

    source: str
    operation: str
    status: str
    media: str


class Covered(msgspec.Struct, frozen=True, tag_field="type", tag="covered"):
    """What a run exercised of an API's description, and the operations that it did not.

    ``exercised`` counts by operation, status and media type.
    """

    source: str
    exercised: tuple[tuple[str, str, str, int], ...]
    missing: tuple[str, ...]


class LoadStarted(msgspec.Struct, frozen=True, tag_field="type", tag="load-started"):
    """A load begins. ``points`` are seconds and users, or rates per second where it is ``open``.

    ``users`` is the most at a time; ``until`` is None where each user takes everything ``loops``
    times. ``contract`` is the share of answers that are checked. ``keys`` are the workflows and
    steps, in their order.
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


class LoadSecond(msgspec.Struct, frozen=True, tag_field="type", tag="load-second"):
    """A second of a load, of all processes together.

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
    """A load is over. ``unstarted`` workflows were due and never began.

    ``limited`` says how the generator itself was the limit, if it was. ``limits`` has each limit
    with whether it held and what was measured.
    """

    seconds: float
    late: int
    unstarted: int
    limited: str = ""
    limits: tuple[tuple[str, bool, str], ...] = ()
    trouble: str = ""


class RunFinished(msgspec.Struct, frozen=True, tag_field="type", tag="run-finished"):
    """The run is over. ``unrun`` tests were in the plan and never started.

    ``counts`` is without quarantined tests; ``quarantined`` counts these. ``browsers`` says
    what the browsers of the run called themselves, by name; ``lately`` how often quarantined
    tests passed, by address.
    """

    seconds: float
    exit_code: int
    counts: dict[str, int]
    unrun: int = 0
    reason: str = ""
    warnings: tuple[str, ...] = ()
    browsers: dict[str, str] = msgspec.field(default_factory=dict)
    quarantined: dict[str, int] = msgspec.field(default_factory=dict)
    lately: dict[str, str] = msgspec.field(default_factory=dict)


Event = (
    RunStarted
    | Building
    | Starting
    | Collecting
    | TestStarted
    | Commanded
    | TestRetried
    | TestFinished
    | Covered
    | LoadStarted
    | LoadSecond
    | LoadError
    | LoadFinished
    | RunFinished
)
Listener = Callable[[Event], None]
