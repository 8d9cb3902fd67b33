"""Steps of plain-language tests: as their sources have them, and as they are defined."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True)
class StepLine:
    """A step of a test, as its source has it."""

    keyword: str
    text: str
    line: int


@dataclass(frozen=True)
class StepUse:
    """A step of a scenario that a definition is meant by: its file, line and text."""

    file: str
    line: int
    text: str


@dataclass(frozen=True)
class StepDefinition:
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


@dataclass
class StepListing:
    """Every definition, the steps that nobody defined, and why a suite could not be asked."""

    definitions: list[StepDefinition] = field(default_factory=list)
    undefined: list[StepUse] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)
