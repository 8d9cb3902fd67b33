"""The messages of the worker protocol, as types.

The channel reads and checks each line that a worker sends once, so the rest of Wolfbane works with
these classes. ``docs/worker-protocol.md`` explains them, and ``docs/worker-protocol.schema.json``
is made from them by :func:`schema`.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

import msgspec

from wolfbane.workers.load_messages import (
    LoadedMessage,
    LoadErrorMessage,
    LoadLookedMessage,
    LoadSecondMessage,
)
from wolfbane.workers.message_data import (
    Address,
    Ending,
    FrameData,
    Line,
    Message,
    PartData,
    WorkerOutcome,
)

PROTOCOL = 1
"""The protocol version in the hello of a worker."""

Use = tuple[str, int, str]
"""A step in a scenario: file, line and text."""


class WrongMessage(Exception):
    """A message has the right shape but is not valid at this point. The text gives the reason."""


class HelloMessage(Message, frozen=True, tag="hello"):
    """The first message of a worker."""

    protocol: int
    token: str
    runtime: str


class ProgressMessage(Message, frozen=True, tag="progress", forbid_unknown_fields=True):
    """The worker is still preparing its response. The time limit starts again."""

    text: str


class CollectingMessage(Message, frozen=True, tag="collecting", forbid_unknown_fields=True):
    """A file is being loaded."""

    file: str


class TestMessage(Message, frozen=True, tag="test", forbid_unknown_fields=True):
    """One test of a file, or a nested test that appeared while another test ran.

    ``called`` is its name in the source, if this is not the last part of its name. ``marked``: the
    source marks it, or a suite around it, as the only one to run; ``focused``: that restricts the
    file.
    """

    address: Address
    line: Line | None = None
    end: Line | None = None
    tags: tuple[str, ...] = ()
    group: str = ""
    blocked: str = ""
    marked: bool = False
    focused: bool = False
    called: str = ""


class CollectedMessage(Message, frozen=True, tag="collected", forbid_unknown_fields=True):
    """The tests of a file are complete; with an ``outcome``, the file cannot be loaded.

    ``tests`` are those without their own message. ``depends`` are other files of the workspace that
    determine which tests exist.
    """

    file: str
    divisible: bool
    tests: tuple[TestMessage, ...] = ()
    depends: tuple[str, ...] = ()
    outcome: WorkerOutcome | None = None
    message: str = ""
    trace: str = ""
    frames: tuple[FrameData, ...] = ()
    output: str = ""


class StartedMessage(Message, frozen=True, tag="started", forbid_unknown_fields=True):
    """A test starts. Its time limit counts from here."""

    address: Address


class OutputMessage(Message, frozen=True, tag="output", forbid_unknown_fields=True):
    """Output of a test."""

    address: Address
    text: str
    stream: Literal["both", "out", "err"] = "both"


class PartsMessage(Message, frozen=True, tag="parts", forbid_unknown_fields=True):
    """Parts of a test that have ended, sent before those in its last message."""

    address: Address
    parts: tuple[PartData, ...]


class EvidenceMessage(Message, frozen=True, tag="evidence", forbid_unknown_fields=True):
    """An evidence file of a test, with the extension ``kind``.

    Its content is ``text``, or bytes in ``data`` (base64 in JSON). ``part`` is the number of the
    part that attached it, from 1. ``mark`` represents the file's path in the test's messages.
    """

    address: Address
    kind: Annotated[str, msgspec.Meta(pattern="^[a-z0-9]+$")]
    text: str | None = None
    data: bytes | None = None
    mark: str = ""
    name: str = ""
    part: Annotated[int, msgspec.Meta(ge=0)] = 0

    def __post_init__(self) -> None:
        """Raises ValueError, which the decoder reports with the line."""
        if (self.text is None) == (self.data is None):
            raise ValueError("evidence must have either 'text' or 'data'")

    @property
    def content(self) -> str | bytes:
        """A text, in which secrets are masked, or bytes."""
        if self.text is not None:
            return self.text
        return self.data or b""


class HandedMessage(Message, frozen=True, tag="handed", forbid_unknown_fields=True):
    """The data that a test passes to dependent tests. Wolfbane does not interpret it."""

    address: Address
    value: dict[str, Any]


class DamageMessage(Message, frozen=True, tag="damage", forbid_unknown_fields=True):
    """Changes that a test made to its process and did not undo.

    ``lasting``: the worker could not undo them either, and is not used again. ``stays``: the worker
    did not try, and the following tests of the file see them.
    """

    address: Address
    left: tuple[str, ...]
    lasting: bool
    stays: bool = False


class SecretMessage(Message, frozen=True, tag="secret", forbid_unknown_fields=True):
    """A text that is masked everywhere from now on."""

    text: str


class CoveredMessage(Message, frozen=True, tag="covered", forbid_unknown_fields=True):
    """An operation of an API and the number of its calls."""

    source: str
    operation: str
    status: str
    media: str
    count: Annotated[int, msgspec.Meta(ge=1)]


class FinishedMessage(
    Ending, tag_field="type", tag="finished", frozen=True, kw_only=True, forbid_unknown_fields=True
):
    """A test ended."""

    address: Address


class RanMessage(Message, frozen=True, tag="ran", forbid_unknown_fields=True):
    """A request has ended, including the file's closing hooks.

    ``spoiled``: a test left the process in a state that would affect later tests. ``unseen``: why
    the tests of a launcher could not be compared with those that were found. ``names_files``: its
    report named the file of each test. ``ran_again``: tests that had a result only in another start
    of it.
    """

    file: str
    spoiled: bool = False
    unseen: str = ""
    names_files: bool = False
    ran_again: tuple[Address, ...] = ()


class StepMessage(Message, frozen=True, tag="step", forbid_unknown_fields=True):
    """A step definition, and the steps of scenarios that use it."""

    kind: Literal["", "given", "when", "then"]
    pattern: str
    file: str
    line: int
    function: str
    uses: tuple[Use, ...]


class ListedMessage(Message, frozen=True, tag="listed", forbid_unknown_fields=True):
    """The list of steps is complete. ``undefined`` lists steps without a definition.

    ``message`` is the reason if the steps could not be listed.
    """

    undefined: tuple[Use, ...]
    message: str = ""


class ClosedMessage(Message, frozen=True, tag="closed", forbid_unknown_fields=True):
    """The hooks that run after all tests have run."""


WorkerMessage = (
    HelloMessage
    | ProgressMessage
    | CollectingMessage
    | TestMessage
    | CollectedMessage
    | StartedMessage
    | OutputMessage
    | PartsMessage
    | EvidenceMessage
    | HandedMessage
    | DamageMessage
    | SecretMessage
    | CoveredMessage
    | FinishedMessage
    | RanMessage
    | StepMessage
    | ListedMessage
    | ClosedMessage
    | LoadLookedMessage
    | LoadSecondMessage
    | LoadErrorMessage
    | LoadedMessage
)
"""All messages that a worker can send."""


def schema() -> dict[str, Any]:
    """The JSON Schema of the messages of a worker, with a description from each docstring."""
    made = msgspec.json.schema(WorkerMessage)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "The messages of a worker: one object per line",
        **made,
    }
