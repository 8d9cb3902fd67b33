"""Steps of plain-language tests: their uses in feature files and their definitions."""

from __future__ import annotations

import msgspec


class StepLine(msgspec.Struct, frozen=True):
    """A step of a test, as written in its source."""

    keyword: str
    text: str
    line: int


class StepUse(msgspec.Struct, frozen=True):
    """A use of a step definition in a scenario: its file, line and text."""

    file: str
    line: int
    text: str


class StepDefinition(msgspec.Struct, frozen=True):
    """A step function.

    ``kind`` is given, when or then, or empty if the step can be used anywhere.
    """

    suite: str
    kind: str
    pattern: str
    file: str
    line: int
    function: str
    uses: tuple[StepUse, ...] = ()

    @property
    def location(self) -> str:
        """``FILE:LINE``."""
        return f"{self.file}:{self.line}"


class StepListing(msgspec.Struct):
    """All definitions, the undefined steps, and the suites that could not be listed, and why."""

    definitions: list[StepDefinition] = msgspec.field(default_factory=list)
    undefined: list[StepUse] = msgspec.field(default_factory=list)
    problems: list[str] = msgspec.field(default_factory=list)
