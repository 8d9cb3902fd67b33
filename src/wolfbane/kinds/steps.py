"""Steps of plain-language tests: as their sources have them, and as they are defined."""

from __future__ import annotations

import msgspec


class StepLine(msgspec.Struct, frozen=True):
    """A step of a test, as its source has it."""

    keyword: str
    text: str
    line: int


class StepUse(msgspec.Struct, frozen=True):
    """A step of a scenario that a definition is meant by: its file, line and text."""

    file: str
    line: int
    text: str


class StepDefinition(msgspec.Struct, frozen=True):
    """A step function: ``kind`` is given, when or then, or empty where it may stand anywhere."""

    suite: str
    kind: str
    pattern: str
    file: str
    line: int
    function: str
    uses: tuple[StepUse, ...] = ()

    @property
    def place(self) -> str:
        """``FILE:LINE``."""
        return f"{self.file}:{self.line}"


class StepListing(msgspec.Struct):
    """Every definition, the steps that nobody defined, and why a suite could not be asked."""

    definitions: list[StepDefinition] = msgspec.field(default_factory=list)
    undefined: list[StepUse] = msgspec.field(default_factory=list)
    problems: list[str] = msgspec.field(default_factory=list)
