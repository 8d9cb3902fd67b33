"""What a feature file holds, and how an outline becomes scenarios.

Runs on Python 3.8 and later by itself, as the reader does.
"""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass, field, replace
from typing import Iterator, Tuple

NESTED = " / "
Rows = Tuple[Tuple[str, ...], ...]
_HOLE = re.compile(r"<([^<>]+)>")


class FeatureError(ValueError):
    """The file is not right; ``line`` says where."""

    def __init__(self, message: str, line: int) -> None:
        super().__init__(message)
        self.line = line


@dataclass(frozen=True)
class Step:
    """``kind`` is given, when or then; a step that goes on with And takes that before it."""

    keyword: str
    kind: str
    text: str
    line: int
    table: Rows = ()
    doc: str | None = None


@dataclass(frozen=True)
class Scenario:
    """One scenario, or one row of an outline. ``name`` has the rule and the row in it."""

    name: str
    line: int
    end: int
    tags: tuple[str, ...]
    steps: tuple[Step, ...]


@dataclass(frozen=True)
class Section:
    """A rule or an outline: a named stretch of lines."""

    name: str
    start: int
    end: int


@dataclass(frozen=True)
class Feature:
    """A whole file."""

    name: str
    language: str
    tags: tuple[str, ...]
    scenarios: tuple[Scenario, ...]
    sections: tuple[Section, ...]


@dataclass
class Examples:
    line: int
    tags: list[str]
    rows: list[tuple[int, tuple[str, ...]]] = field(default_factory=list)


@dataclass
class Block:
    """A background, scenario or outline as it stands in the file."""

    kind: str
    name: str
    line: int
    tags: list[str]
    rule: str
    before: list[Step]
    steps: list[Step] = field(default_factory=list)
    examples: list[Examples] = field(default_factory=list)
    end: int = 0

    @property
    def full_name(self) -> str:
        """With the rule that it belongs to."""
        return f"{self.rule}{NESTED}{self.name}" if self.rule else self.name


def expanded(block: Block) -> Iterator[Scenario]:
    """A block's scenarios: itself, or one for each row of an outline. Raises FeatureError."""
    name = block.full_name
    steps = (*block.before, *block.steps)
    if block.kind == "scenario":
        yield Scenario(name, block.line, block.end, _once(block.tags), steps)
        return
    if not any(len(examples.rows) > 1 for examples in block.examples):
        raise FeatureError("an outline without a row of examples", block.line)
    for examples in block.examples:
        heads = examples.rows[0][1] if examples.rows else ()
        _check_holes(block, heads)
        for line, cells in examples.rows[1:]:
            values = dict(zip(heads, cells))
            filled = _filled(block.name, values)
            row = filled if filled != block.name else ", ".join(cells)
            inside = tuple(_filled_step(step, values) for step in block.steps)
            yield Scenario(
                f"{name}{NESTED}{row}", line, line, _once([*block.tags, *examples.tags]),
                (*block.before, *inside),
            )  # fmt: skip


def _check_holes(block: Block, heads: tuple[str, ...]) -> None:
    for step in block.steps:
        for name in _HOLE.findall(step.text):
            close = difflib.get_close_matches(name, heads, 1)
            if name not in heads and close:
                message = f"<{name}> is no column; did you mean <{close[0]}>?"
                raise FeatureError(message, step.line)


def _filled(text: str, values: dict[str, str]) -> str:
    return _HOLE.sub(lambda match: values.get(match[1], match[0]), text)


def _filled_step(step: Step, values: dict[str, str]) -> Step:
    table = tuple(tuple(_filled(cell, values) for cell in row) for row in step.table)
    doc = None if step.doc is None else _filled(step.doc, values)
    return replace(step, text=_filled(step.text, values), table=table, doc=doc)


def distinct(scenarios: list[Scenario]) -> list[Scenario]:
    """A second scenario of one name is called ``NAME (2)``."""
    seen: dict[str, int] = {}
    named = []
    for scenario in scenarios:
        count = seen[scenario.name] = seen.get(scenario.name, 0) + 1
        name = f"{scenario.name} ({count})" if count > 1 else scenario.name
        named.append(replace(scenario, name=name))
    return named


def _once(tags: list[str]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(tags))
