"""The parts of a feature file, and the expansion of outlines to scenarios.

Runs on Python 3.8 and later without other modules, like the reader.
"""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass, field, replace
from typing import Iterator, Optional, Tuple

NESTED = " / "
Rows = Tuple[Tuple[str, ...], ...]
About = Tuple[Tuple[str, str], ...]
_HOLE = re.compile(r"<([^<>]+)>")


class FeatureError(ValueError):
    """An error in a feature file.

    ``line`` is its place. ``fatal``: the rest of the file cannot be read.
    """

    def __init__(self, message: str, line: int, *, fatal: bool = False) -> None:
        super().__init__(message)
        self.line = line
        self.fatal = fatal


@dataclass(frozen=True)
class Step:
    """``kind`` is given, when or then; a step with And has the kind of the previous step."""

    keyword: str
    kind: str
    text: str
    line: int
    table: Rows = ()
    doc: str | None = None


@dataclass(frozen=True)
class Scenario:
    """One scenario, or one row of an outline. ``name`` contains the rule and the row.

    ``about`` are the headings above it and its own, each with its description. ``problem`` is the
    reason if it cannot run.
    """

    name: str
    line: int
    end: int
    tags: tuple[str, ...]
    steps: tuple[Step, ...]
    about: About = ()
    problem: Optional[FeatureError] = None


@dataclass(frozen=True)
class Section:
    """A rule or an outline: a named range of lines. Without a name, the rows of a table."""

    name: str
    start: int
    end: int


@dataclass(frozen=True)
class Feature:
    """A complete feature file. ``warnings`` lists unusual things, each with its line."""

    name: str
    language: str
    tags: tuple[str, ...]
    scenarios: tuple[Scenario, ...]
    sections: tuple[Section, ...]
    warnings: tuple[tuple[str, int], ...] = ()


@dataclass
class Heading:
    """A feature or a rule, with its background."""

    title: str
    name: str
    tags: list[str]
    line: int
    description: list[str] = field(default_factory=list)
    background: list[Step] = field(default_factory=list)
    has_background: bool = False
    problem: Optional[FeatureError] = None

    @property
    def about(self) -> tuple[str, str]:
        """Its heading and its description."""
        return f"{self.title}: {self.name}", "\n".join(self.description)


@dataclass
class Examples:
    """A table of an outline. It starts with its tags."""

    line: int
    tags: list[str]
    rows: list[tuple[int, tuple[str, ...]]] = field(default_factory=list)


@dataclass
class FeatureBlock:
    """A background, scenario or outline as written in the file, below a feature and a rule."""

    kind: str
    title: str
    name: str
    line: int
    tags: list[str]
    above: list[Heading]
    steps: list[Step] = field(default_factory=list)
    examples: list[Examples] = field(default_factory=list)
    description: list[str] = field(default_factory=list)
    end: int = 0
    problem: Optional[FeatureError] = None

    @property
    def full_name(self) -> str:
        """With the rule that it belongs to."""
        rules = [heading.name for heading in self.above[1:] if heading.name]
        return NESTED.join([*rules, self.name])

    @property
    def before(self) -> list[Step]:
        """The steps of the backgrounds above it."""
        return [step for heading in self.above for step in heading.background]

    @property
    def about(self) -> About:
        """The headings above it, and its own if it is described."""
        about = [heading.about for heading in self.above]
        if self.description:
            about.append((f"{self.title}: {self.name}", "\n".join(self.description)))
        return tuple(about)


def expanded(block: FeatureBlock) -> Iterator[Scenario]:
    """A block's scenarios: itself, or one for each row of an outline."""
    name, about = block.full_name, block.about
    inherited = [heading.problem for heading in block.above if heading.problem]
    problem = block.problem or (inherited[0] if inherited else None) or _wrong_hole(block)
    if block.kind == "scenario" or problem:
        steps = (*block.before, *block.steps)
        tags = _once(block.tags)
        yield Scenario(
            name=name,
            line=block.line,
            end=block.end,
            tags=tags,
            steps=steps,
            about=about,
            problem=problem,
        )
        return
    titles = _row_titles(block)
    for examples in block.examples:
        if examples.rows:
            heads = examples.rows[0][1]
        else:
            heads = ()
        tags = _once([*block.tags, *examples.tags])
        for line, cells in examples.rows[1:]:
            values = dict(zip(heads, cells))
            inside = tuple(_filled_step(step, values) for step in block.steps)
            yield Scenario(
                name=f"{name}{NESTED}{titles[line]}",
                line=line,
                end=line,
                tags=tags,
                steps=(*block.before, *inside),
                about=about,
            )


def _row_titles(block: FeatureBlock) -> dict[int, str]:
    """The name of each row, by its line: never by its position among the others.

    That is the outline's name with the row's values, if this name is unique; otherwise with all
    values; and only the values if the name has no placeholder.
    """
    rows = {}
    for examples in block.examples:
        if examples.rows:
            heads = examples.rows[0][1]
        else:
            heads = ()
        for line, cells in examples.rows[1:]:
            rows[line] = (_filled(block.name, dict(zip(heads, cells))), ", ".join(cells))
    filled = [title for title, _ in rows.values()]
    unique = {title for title in filled if filled.count(title) == 1}
    titles = {}
    for line, (title, values) in rows.items():
        if title == block.name:
            titles[line] = values
        else:
            titles[line] = title if title in unique else f"{title} ({values})"
    return titles


def _wrong_hole(block: FeatureBlock) -> Optional[FeatureError]:
    """A placeholder of a step that is similar to a column of the examples."""
    for examples in block.examples:
        if examples.rows:
            heads = examples.rows[0][1]
        else:
            heads = ()
        for step in block.steps:
            for name in _HOLE.findall(step.text):
                close = difflib.get_close_matches(name, heads, 1)
                if name not in heads and close:
                    message = f"there is no column <{name}>; did you mean <{close[0]}>?"
                    return FeatureError(message, step.line)
    return None


def _filled(text: str, values: dict[str, str]) -> str:
    if "<" in text:
        return _HOLE.sub(lambda match: values.get(match[1], match[0]), text)
    return text


def _filled_step(step: Step, values: dict[str, str]) -> Step:
    table = tuple(tuple(_filled(cell, values) for cell in row) for row in step.table)
    doc = None
    if step.doc is not None:
        doc = _filled(step.doc, values)
    return replace(step, text=_filled(step.text, values), table=table, doc=doc)


def distinct(scenarios: list[Scenario]) -> list[Scenario]:
    """A second scenario with the same name is named ``NAME (2)``."""
    seen: dict[str, int] = {}
    named = []
    for scenario in scenarios:
        count = seen[scenario.name] = seen.get(scenario.name, 0) + 1
        if count > 1:
            name = f"{scenario.name} ({count})"
        else:
            name = scenario.name
        named.append(replace(scenario, name=name) if count > 1 else scenario)
    return named


def _once(tags: list[str]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(tags))
