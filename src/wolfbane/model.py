"""The central data types: frozen data without input or output."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum

import msgspec


class Outcome(StrEnum):
    """The outcome of an attempt. ``flaky``: the test passed after a failed attempt."""

    PASSED = "passed"
    FLAKY = "flaky"
    FAILED = "failed"
    ERRORED = "errored"
    TIMED_OUT = "timed out"
    CRASHED = "crashed"
    BLOCKED = "blocked"
    SKIPPED = "skipped"
    TODO = "todo"

    @property
    def is_bad(self) -> bool:
        """True if the test ran and did not hold."""
        return self in _BAD

    @property
    def is_failure(self) -> bool:
        """True if the outcome fails the run: everything that is called failed."""
        return self in _BAD or self is Outcome.BLOCKED


_BAD = frozenset({Outcome.FAILED, Outcome.ERRORED, Outcome.TIMED_OUT, Outcome.CRASHED})


class Discrepancy(StrEnum):
    """The difference between a launcher's report and the known, selected tests.

    ``added``: it reported an unknown test; ``unasked``: a test that was not selected; ``missing``:
    it did not report a selected test.
    """

    AGREED = ""
    ADDED = "added"
    UNASKED = "unasked"
    MISSING = "missing"


LIMITS = "limits"
"""The file name in the results for limits of a load test: each limit is a separate result."""

NESTED = " / "
"""The separator between nested names in a test's name."""


def at(name: str, variant: str) -> str:
    """A path or address with the name of its variant, if it has one: ``PATH @firefox``."""
    return f"{name} @{variant}" if variant else name


def variant(name: str, browser: str, target: str) -> str:
    """A path or address in a browser and for a target: ``PATH @firefox @staging``."""
    return at(at(name, browser), target)


class Tag(msgspec.Struct, frozen=True):
    """A tag of a test, ``smoke``, or with a key, ``category=billing``, and its source."""

    word: str
    key: str = ""
    origin: str = ""

    @property
    def text(self) -> str:
        """The tag as people write it."""
        return f"{self.key}={self.word}" if self.key else self.word

    @classmethod
    def parse(cls, text: str, origin: str = "") -> Tag:
        """Parse ``smoke`` or ``category=billing``; a key is a field in lower case."""
        key, equals, word = text.strip().partition("=")
        return cls(word.strip(), key.strip().lower(), origin) if equals else cls(key, "", origin)


class Test(msgspec.Struct, frozen=True):
    """The smallest unit that can be selected. ``name`` is empty if the file is the test.

    ``focused``: its source marks it as the only one to run. ``target`` is the label of its
    environment, if a run has several. ``needs`` are the names of tests of the same file that must
    run before. ``source_name`` is its name in the source, if this is not the last part of its name,
    because other tests have the same.
    """

    suite: str
    kind: str
    path: str
    name: str
    line: int = 0
    end: int = 0
    tags: tuple[Tag, ...] = ()
    group: str = ""
    exact: bool = False
    blocked: str = ""
    focused: bool = False
    browser: str = ""
    target: str = ""
    needs: tuple[str, ...] = ()
    source_name: str = ""

    @property
    def worker_address(self) -> str:
        """Its name for workers: ``PATH#NAME``, or the path if the file is the test."""
        return f"{self.path}#{self.name}" if self.name else self.path

    @property
    def address(self) -> str:
        """The stable name: ``PATH#NAME @BROWSER @TARGET``, without the parts that do not apply."""
        if not (self.browser or self.target):  # most tests: this is asked for many times each
            return self.worker_address
        return variant(self.worker_address, self.browser, self.target)

    @property
    def ancestors(self) -> Iterator[str]:
        """The names of the groups around this test, innermost first."""
        name = self.name
        while NESTED in name:
            name = name.rpartition(NESTED)[0]
            yield name


class Block(msgspec.Struct, frozen=True):
    """Lines of a file that contain tests (a class): ``start`` to ``end``; ``name`` may be empty."""

    name: str
    start: int
    end: int


class TestFile(msgspec.Struct, frozen=True):
    """A test file of a suite, and the known facts about its tests.

    ``complete`` is False if the source hints at tests or tags that are known only after loading,
    and ``dynamic`` if these may differ each time. ``exact`` is True after a worker has collected
    this content; ``depends`` are other files whose change invalidates that. ``divisible`` files may
    run class by class in several workers. ``only_marks`` are the lines that mark a test or suite as
    the only one to run, whether that restricts the file or not. ``lost`` files cannot be read at
    all, for the reason in ``error``: no worker loads them. ``warnings`` are for the user; each
    starts with its line.
    """

    path: str
    suite: str
    kind: str
    tests: tuple[Test, ...] = ()
    blocks: tuple[Block, ...] = ()
    complete: bool = True
    dynamic: bool = False
    exact: bool = False
    divisible: bool = True
    depends: tuple[str, ...] = ()
    error: str = ""
    only_marks: tuple[int, ...] = ()
    lost: bool = False
    warnings: tuple[str, ...] = ()


class Frame(msgspec.Struct, frozen=True):
    """One line of a stack, innermost last."""

    file: str
    line: int
    function: str = ""


class Part(msgspec.Struct, frozen=True):
    """A point, subtest or step inside a test, with its own outcome.

    ``table`` and ``text`` are the content below a step.
    """

    name: str
    outcome: Outcome
    message: str = ""
    seconds: float = 0.0
    file: str = ""
    line: int = 0
    parts: tuple[Part, ...] = ()
    table: tuple[tuple[str, ...], ...] = ()
    text: str = ""


class Excerpt(msgspec.Struct, frozen=True):
    """Source lines around a failing line, stored so that a record stays readable later."""

    file: str
    line: int
    first: int
    lines: tuple[str, ...]


class Evidence(msgspec.Struct, frozen=True):
    """An evidence file of an attempt. ``path`` is relative to the run's folder.

    ``name`` is its name in the test, ``part`` the number of the part that attached it, from 1.
    """

    kind: str
    path: str
    name: str = ""
    part: int = 0


class Repeated(msgspec.Struct, frozen=True):
    """The number of runs and passes of a test in one run, and its times in seconds."""

    runs: int
    passed: int
    median: float
    fastest: float
    slowest: float


class Result(msgspec.Struct, frozen=True):
    """The result of one test: its last attempt, and the earlier attempts. Times are in seconds.

    ``began`` counts from the start of the run; ``worker`` is the number of the slot, 0 if none was
    needed. ``account`` is for bridge tests. ``environment`` is the name of its environment, even if
    the run has only one and its address does not contain it. ``again`` are the arguments that rerun
    it, if its own address selects nothing: those of a hook. ``about`` are the headings above a
    scenario, each with its description. A test that was ``repeated`` is shown with its first
    failure, and other failures as ``earlier``. ``machine`` is the name of its machine, in a run on
    several.
    """

    address: str
    suite: str
    kind: str
    path: str
    name: str
    outcome: Outcome
    seconds: float = 0.0
    message: str = ""
    trace: str = ""
    frames: tuple[Frame, ...] = ()
    excerpt: Excerpt | None = None
    output: str = ""
    parts: tuple[Part, ...] = ()
    tags: tuple[str, ...] = ()
    browser: str = ""
    target: str = ""
    environment: str = ""
    evidence: tuple[Evidence, ...] = ()
    attempt: int = 1
    earlier: tuple[Result, ...] = ()
    began: float = 0.0
    worker: int = 0
    account: Discrepancy = Discrepancy.AGREED
    again: tuple[str, ...] = ()
    about: tuple[tuple[str, str], ...] = ()
    repeated: Repeated | None = None
    machine: str = ""

    @property
    def variant(self) -> str:
        """The variant of the outcome: the address with its environment."""
        return self.address if self.target else at(self.address, self.environment)


class HistogramData(msgspec.Struct, frozen=True):
    """A histogram as JSON: the number of values, their sum and the largest, in microseconds.

    ``counts`` is base64 of a zlib stream of unsigned 32-bit integers, little-endian: first the
    numbers of the buckets that are not empty, each as its distance from the one before, then how
    many values are in each of them. Bucket ``b`` starts at ``b`` up to 2,048; beyond that at
    ``(b - s * 1024) << s`` with ``s = b // 1024 - 1``.
    """

    count: int
    total: int
    largest: int
    counts: str


class LoadRow(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The figures of a step in one second. Without ``step``: of the whole workflow.

    ``sent`` and ``received`` are bytes of bodies. ``errors`` counts by kind. ``times`` are by part:
    ``whole``, ``first_byte``, ``connect``, ``tls``.
    """

    workflow: str
    step: str
    count: int
    sent: int
    received: int
    errors: dict[str, int]
    times: dict[str, HistogramData]
