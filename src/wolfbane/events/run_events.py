"""The typed events of a run. The listeners are the console, the journal and the record."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from wolfbane.events.load_events import LoadError, LoadFinished, LoadSecond, LoadStarted
from wolfbane.model import Result


class Target(msgspec.Struct, frozen=True):
    """The environment of a run with its values; secrets are masked.

    ``version`` is the version that the system reports; ``revision`` is the git revision of that
    version.
    """

    label: str
    environment: str
    parameters: dict[str, str]
    version: str = ""
    revision: str = ""


class SuiteState(msgspec.Struct, frozen=True):
    """The state of the suites in a run: their commit, and whether files differ from it.

    ``revision`` is the name given with ``--at``; then ``settings`` is the source of the suites'
    settings. Outside a repository, all fields are empty.
    """

    commit: str = ""
    changed: bool = False
    revision: str = ""
    settings: str = ""


class Quarantined(msgspec.Struct, frozen=True):
    """The quarantine of a test: the reason, its age, and its end date.

    ``over``: its end date has passed, and this fails the run.
    """

    because: str
    days: int
    until: str = ""
    owner: str = ""
    ticket: str = ""
    over: bool = False


class ShareFacts(msgspec.Struct, frozen=True):
    """The share that a run executes. Shares of the same plan differ only in their ``number``.

    ``whole`` is the number of tests in the plan. ``plan`` is a hash of their addresses, ``sources``
    has a hash of each of their files and of the files that these import, and ``figures`` is a hash
    of the weights that divide the plan.
    """

    number: int
    of: int
    whole: int
    plan: str
    sources: dict[str, str]
    figures: str
    cut_by: str


class RunStarted(msgspec.Struct, frozen=True, tag_field="type", tag="run-started"):
    """A run starts: the selected tests, the environment, and the excluded tests with reasons.

    ``arguments`` were typed in ``folder`` of the workspace. Without any, the run was not started by
    a command that can be repeated. ``chosen`` are the addresses of its tests, if the arguments
    could select other tests later. ``seed`` is the seed of a random order. ``live``: its test uses
    the terminal. ``share``: the run is one of several. ``on`` is the address of the cluster.
    ``processes`` says for some suites what one process runs: a ``file`` or the ``suite``.
    ``unseen`` are suites whose launchers may have tests that were not found, and that do not run.
    ``pointed`` are the arguments that run single tests in the same environment; ``version`` is
    Wolfbane's; ``suite_state`` is the commit of the suites. The suites ``options_for`` were started
    with the options ``passed_on``. ``without_tests`` are the files that suites list but that
    contain no tests, ``unclaimed`` the files that look like tests but belong to no suite, with what
    to do (``to_claim``), and ``workspaces`` folders with their own settings, all if suites were
    detected. ``untraced`` are the changed files that no test is known to use.
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
    processes: dict[str, str] = msgspec.field(default_factory=dict)
    unseen: tuple[str, ...] = ()
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
    untraced: tuple[str, ...] = ()
    to_claim: tuple[str, ...] = ()
    workspaces: tuple[str, ...] = ()
    pointed: tuple[str, ...] = ()
    version: str = ""
    suite_state: SuiteState = SuiteState()
    passed_on: tuple[str, ...] = ()
    options_for: tuple[str, ...] = ()
    arguments: tuple[str, ...] = ()
    folder: str = "."
    seed: int | None = None
    chosen: tuple[str, ...] = ()
    live: bool = False
    share: ShareFacts | None = None
    on: str = ""


class Building(msgspec.Struct, frozen=True, tag_field="type", tag="building"):
    """A build command of a suite starts, here or on a machine of a cluster."""

    suite: str
    command: str
    machine: str = ""


class Starting(msgspec.Struct, frozen=True, tag_field="type", tag="starting"):
    """A service starts, and the run waits for it, here or on a machine of a cluster."""

    service: str
    port: int
    target: str = ""
    machine: str = ""


class Collecting(msgspec.Struct, frozen=True, tag_field="type", tag="collecting"):
    """Exact tests of files are being collected. ``done`` is 0 before the first file.

    ``file`` is a file that has been loading for ``seconds``, if one takes long.
    """

    done: int
    total: int
    file: str = ""
    seconds: float = 0.0


class TestStarted(msgspec.Struct, frozen=True, tag_field="type", tag="test-started"):
    """An attempt of a test starts."""

    address: str
    suite: str


class Commanded(msgspec.Struct, frozen=True, tag_field="type", tag="commanded"):
    """A browser command of a test, as a sentence. ``seconds`` is its duration."""

    address: str
    browser: str
    sentence: str
    answer: str
    seconds: float


class TestRetried(msgspec.Struct, frozen=True, tag_field="type", tag="test-retried"):
    """An attempt failed, and the test will be retried."""

    result: Result


class TestRepeated(msgspec.Struct, frozen=True, tag_field="type", tag="test-repeated"):
    """One repetition of a test ended, and the test runs again."""

    result: Result


class TestFinished(msgspec.Struct, frozen=True, tag_field="type", tag="test-finished"):
    """A test ended, after all of its attempts.

    ``extra``: the test appeared during the run and was not in its plan.
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
    """The operations of an API description that a run called, and those that it did not call.

    ``exercised`` counts by operation, status and media type.
    """

    source: str
    exercised: tuple[tuple[str, str, str, int], ...]
    missing: tuple[str, ...]


class RunFinished(msgspec.Struct, frozen=True, tag_field="type", tag="run-finished"):
    """The run has ended. ``unrun`` tests were planned but did not start.

    ``counts`` is without quarantined tests and without the ``limits`` of a load test;
    ``quarantined`` counts the former. ``browsers`` are the
    names and versions that the browsers of the run reported; ``lately`` is how often quarantined
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
    limits: dict[str, int] = msgspec.field(default_factory=dict)
    lately: dict[str, str] = msgspec.field(default_factory=dict)


Event = (
    RunStarted
    | Building
    | Starting
    | Collecting
    | TestStarted
    | Commanded
    | TestRetried
    | TestRepeated
    | TestFinished
    | Covered
    | LoadStarted
    | LoadSecond
    | LoadError
    | LoadFinished
    | RunFinished
)
EventListener = Callable[[Event], None]
