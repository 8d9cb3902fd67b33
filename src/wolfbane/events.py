"""What happens in a run, as typed events. Listeners are the console, the journal, the record."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

from wolfbane.model import Result


@dataclass(frozen=True)
class Target:
    """What a run is pointed at: an environment with its values, secrets masked."""

    label: str
    environment: str
    parameters: dict[str, str]


@dataclass(frozen=True)
class Quarantined:
    """Why a test's failure does not fail the run, for how long, and until when.

    ``over``: its date is past, and that does fail the run.
    """

    because: str
    days: int
    until: str = ""
    owner: str = ""
    ticket: str = ""
    over: bool = False


@dataclass(frozen=True)
class RunStarted:
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
    pulled_in: dict[str, str] = field(default_factory=dict)
    documents: dict[str, str] = field(default_factory=dict)
    browsers: tuple[str, ...] = ()
    visible: bool = False
    quarantined: dict[str, Quarantined] = field(default_factory=dict)
    neglected: tuple[str, ...] = ()
    focused: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    without_tests: tuple[str, ...] = ()
    unclaimed: tuple[str, ...] = ()
    workspaces: tuple[str, ...] = ()
    pointed: tuple[str, ...] = ()
    version: str = ""
    type: Literal["run-started"] = "run-started"


@dataclass(frozen=True)
class Building:
    """A build command of a suite begins."""

    suite: str
    command: str
    type: Literal["building"] = "building"


@dataclass(frozen=True)
class Starting:
    """A service is started, and waited for."""

    service: str
    port: int
    target: str = ""
    type: Literal["starting"] = "starting"


@dataclass(frozen=True)
class Collecting:
    """Files are being asked for their exact tests."""

    done: int
    total: int
    type: Literal["collecting"] = "collecting"


@dataclass(frozen=True)
class TestStarted:
    """An attempt begins."""

    address: str
    suite: str
    type: Literal["test-started"] = "test-started"


@dataclass(frozen=True)
class Commanded:
    """A command of a test to its browser, as a sentence; ``seconds`` is how long it took."""

    address: str
    browser: str
    sentence: str
    answer: str
    seconds: float
    type: Literal["commanded"] = "commanded"


@dataclass(frozen=True)
class TestRetried:
    """An attempt ended badly, and the test will run again."""

    result: Result
    type: Literal["test-retried"] = "test-retried"


@dataclass(frozen=True)
class TestFinished:
    """A test ended, after all of its attempts.

    ``extra``: it came up in the run and was not in its plan.
    """

    result: Result
    extra: bool = False
    type: Literal["test-finished"] = "test-finished"


@dataclass(frozen=True)
class Exercised:
    """An operation of an API that was called: its description, name, status and media type."""

    source: str
    operation: str
    status: str
    media: str


@dataclass(frozen=True)
class Covered:
    """What a run exercised of an API's description, and the operations that it did not.

    ``exercised`` counts by operation, status and media type.
    """

    source: str
    exercised: tuple[tuple[str, str, str, int], ...]
    missing: tuple[str, ...]
    type: Literal["covered"] = "covered"


@dataclass(frozen=True)
class RunFinished:
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
    browsers: dict[str, str] = field(default_factory=dict)
    quarantined: dict[str, int] = field(default_factory=dict)
    lately: dict[str, str] = field(default_factory=dict)
    type: Literal["run-finished"] = "run-finished"


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
    | RunFinished
)
Listener = Callable[[Event], None]
