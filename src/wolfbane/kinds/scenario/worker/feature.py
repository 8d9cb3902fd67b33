"""Plain-language feature files: Given, When, Then.

A feature contains scenarios, and rules that contain scenarios. The steps of a background run before
the steps of each scenario on the same level. An outline is one scenario for each row of its example
tables. The result is a flat list of scenarios. An error in one scenario is stored as its
``problem``. Only an error that prevents reading the rest is an error of the file.

Runs on Python 3.8 and later without other modules: suites' own interpreters read these files, too.
"""

from __future__ import annotations

import re
from dataclasses import replace

from wolfbane.kinds.scenario.worker.feature_tables import FENCE, read_table, read_text
from wolfbane.kinds.scenario.worker.feature_tags import Tags, shortened
from wolfbane.kinds.scenario.worker.keywords import ENGLISH, EVERY_LANGUAGE, KEYWORDS, words_of
from wolfbane.kinds.scenario.worker.scenarios import (
    Examples,
    Feature,
    FeatureBlock,
    FeatureError,
    Heading,
    Scenario,
    Section,
    Step,
    distinct,
    expanded,
)

__all__ = ["Feature", "FeatureError", "Scenario", "Section", "Step", "read"]

_LANGUAGE = re.compile(r"^\s*#\s*language\s*:\s*(\S+)\s*$")


def read(text: str) -> Feature:
    """Read a feature file. Raises FeatureError if the rest cannot be read."""
    return _FeatureReader(text).read()


class _FeatureReader:
    def __init__(self, text: str) -> None:
        self.lines = text.splitlines()
        self.at = 0
        self.language = ENGLISH
        self.keywords = words_of(ENGLISH)
        self.tags = Tags()
        self.above: list[Heading] = []
        self.blocks: list[FeatureBlock] = []
        self.block: FeatureBlock | None = None
        self.sections: list[Section] = []
        self.warnings: list[tuple[str, int]] = []

    def read(self) -> Feature:
        while self.at < len(self.lines):
            try:
                self._line(self.lines[self.at])
            except FeatureError as error:
                if error.fatal:
                    raise
                self._take(error)
            self.at += 1
        if self.tags.names:
            message = "these tags have no feature, rule, scenario or examples below them"
            self._lone(FeatureError(message, self.tags.line))
        if not self.above:
            message = f"the file has no '{self._feature_word}:' line"
            raise FeatureError(message, max(1, len(self.lines)), fatal=True)
        self._close_rule()
        scenarios = distinct([s for block in self.blocks for s in expanded(block)])
        for block in (block for block in self.blocks if block.kind == "outline"):
            self._outline(block)
        feature = self.above[0]
        return Feature(
            name=feature.name,
            language=self.language,
            tags=tuple(feature.tags),
            scenarios=tuple(scenarios),
            sections=tuple(self.sections),
            warnings=tuple(self.warnings),
        )

    def _outline(self, block: FeatureBlock) -> None:
        """An outline's sections; a warning if it gives no tests."""
        self.sections.append(Section(block.full_name, block.line, block.end))
        for examples in block.examples:
            if examples.rows:
                self.sections.append(Section("", examples.line, examples.rows[-1][0]))
        if not block.problem and not any(len(examples.rows) > 1 for examples in block.examples):
            message = f"'{block.name}' has no rows of examples, so it gives no tests"
            self.warnings.append((message, block.line))

    def _take(self, error: FeatureError) -> None:
        """An error affects only its scenario; in a background, all scenarios that it applies to."""
        if self.block is None:
            self._lone(error)
        elif self.block.kind == "background":
            self.above[-1].problem = self.above[-1].problem or error
        else:
            self.block.problem = self.block.problem or error

    def _lone(self, error: FeatureError, name: str = "") -> None:
        """An error that belongs to no scenario. It becomes a scenario, so that it is visible."""
        tags = [tag for heading in self.above for tag in heading.tags]
        name = name or f"line {error.line}"
        above = [*self.above]
        block = FeatureBlock(
            kind="scenario", title="", name=name, line=error.line, tags=tags, above=above
        )
        block.end = error.line
        block.problem = error
        self.blocks.append(block)
        self.block = block

    def _line(self, line: str) -> None:
        stripped = line.strip()
        number = self.at + 1
        language = _LANGUAGE.match(line)
        if language and not self.above:
            self._speak(language[1], number)
            return
        if not stripped or stripped.startswith("#"):
            return
        if stripped.startswith("@"):
            self.tags.read(stripped, number)
            return
        if heading := self.keywords.heading(stripped):
            self._open(*heading, number)
        elif stripped.startswith("|"):
            self._table(number)
        elif FENCE.match(line):
            self._doc(number)
        elif step := self._step(stripped, number):
            self._add(step)
        else:
            self._prose(stripped, number)
        if self.block:
            self.block.end = self.at + 1

    def _speak(self, language: str, number: int) -> None:
        if language.lower() not in KEYWORDS:
            message = f"unknown language '{language}'; known: {', '.join(sorted(KEYWORDS))}"
            raise FeatureError(message, number, fatal=True)
        self.language = language.lower()
        self.keywords = words_of(self.language)

    @property
    def _feature_word(self) -> str:
        return str(KEYWORDS[self.language]["feature"][0])

    @property
    def _in_description(self) -> bool:
        """Whether free text is allowed here, and steps are not: a scenario's own start below it."""
        examples = self.block.examples if self.block else []
        return self.block is None or bool(examples and not examples[-1].rows)

    def _step(self, line: str, number: int) -> Step | None:
        step = None if self._in_description else self.keywords.step(line)
        if step is None:
            return None
        kind, word, text = step
        if not text and word == EVERY_LANGUAGE:
            return None
        if not text:
            raise FeatureError(f"'{word}' must be followed by text", number)
        return Step(keyword=word, kind=kind, text=text, line=number)

    def _open(self, kind: str, word: str, name: str, number: int) -> None:
        above_it, self.tags = self.tags, Tags()
        tags, problem = above_it.names, above_it.problem
        if kind == "feature":
            if self.above:
                raise FeatureError("a file can have only one feature", number, fatal=True)
            self.above = [Heading(title=word, name=name, tags=tags, line=number, problem=problem)]
            return
        if not self.above:
            message = f"'{self._feature_word}:' must be the first line"
            raise FeatureError(message, number, fatal=True)
        if kind == "rule":
            self._close_rule()
            self.above = [
                self.above[0],
                Heading(title=word, name=name, tags=tags, line=number, problem=problem),
            ]
            self.block = None
        elif kind == "examples":
            self._examples(tags, above_it.line if tags else number, number)
            if self.block is not None:
                self.block.problem = self.block.problem or problem
        elif kind == "background":
            self._background(word, name, above_it, number=number)
        else:
            inherited = [tag for heading in self.above for tag in heading.tags]
            name = name or f"scenario of line {number}"
            if tags and above_it.line < number:
                whole = " / ".join([*(rule.name for rule in self.above[1:] if rule.name), name])
                self.sections.append(Section(whole, above_it.line, number))
            tags, above = [*inherited, *tags], list(self.above)
            self.block = FeatureBlock(
                kind=kind, title=word, name=name, line=number, tags=tags, above=above
            )
            self.block.problem = problem
            self.blocks.append(self.block)

    def _examples(self, tags: list[str], line: int, number: int) -> None:
        if self.block is None or self.block.kind not in ("outline", "scenario"):
            raise FeatureError("examples must be below an outline", number)
        self.block.kind = "outline"
        self.block.examples.append(Examples(line, tags))

    def _background(self, word: str, name: str, tags: Tags, number: int) -> None:
        here = self.above[-1]
        if here.has_background:
            where = "rule" if len(self.above) > 1 else "feature"
            raise FeatureError(f"this {where} already has a background", number, fatal=True)
        if any(block.above[-1] is here for block in self.blocks):
            raise FeatureError("a background must be before the scenarios", number, fatal=True)
        here.has_background = True
        self.block = FeatureBlock(
            kind="background", title=word, name=name, line=number, tags=[], above=list(self.above)
        )
        self.block.steps = here.background
        if tags.names:
            raise FeatureError("a background cannot have tags", tags.line)

    def _close_rule(self) -> None:
        for rule in self.above[1:]:
            if rule.name:
                self.sections.append(Section(rule.name, rule.line, self.at))

    def _add(self, step: Step) -> None:
        assert self.block is not None
        if self.block.examples:
            raise FeatureError("this step belongs to no scenario", step.line)
        own = self.block.kind == "background"
        before = self.block.steps if own else [*self.block.before, *self.block.steps]
        if step.kind == "and":
            step = replace(step, kind=before[-1].kind if before else "given")
        self.block.steps.append(step)

    def _table(self, number: int) -> None:
        table = read_table(self.lines, self.at)
        self.at = table.end
        if table.problem:
            raise table.problem
        if self.block and self.block.examples and not self.block.examples[-1].rows:
            self.block.examples[-1].rows = table.rows
        elif self.block and self.block.steps and not self.block.examples:
            cells = tuple(cells for _, cells in table.rows)
            self.block.steps[-1] = replace(self.block.steps[-1], table=cells)
        else:
            raise FeatureError("this table belongs to no step", number)

    def _doc(self, number: int) -> None:
        text, self.at = read_text(self.lines, self.at)
        if self.block is None or not self.block.steps or self.block.examples:
            raise FeatureError("this text belongs to no step", number)
        self.block.steps[-1] = replace(self.block.steps[-1], doc=text)

    def _prose(self, line: str, number: int) -> None:
        """A description: free text below a heading. In other places, it is an error."""
        if not self.above:
            hint = self._nearly(line) or f"'{self._feature_word}:' must be the first line"
            raise FeatureError(f"cannot read '{shortened(line)}': {hint}", number, fatal=True)
        heading = self.keywords.nearest_heading(line)
        if heading and self._steps_follow():
            self.block = None
            message = f"'{shortened(line)}': did you mean '{heading}:'?"
            self._lone(FeatureError(message, number), line.partition(":")[2].strip())
            return
        free = self._in_description or (self.block is not None and not self.block.steps)
        if free and not self.tags.names and not self._nearly_a_step(line):
            holder = self.above[-1] if self.block is None else self.block
            holder.description.append(line)
            return
        hint = self._nearly(line) or "expected a step, a table, a quoted text or a heading"
        raise FeatureError(f"cannot read '{shortened(line)}': {hint}", number)

    def _steps_follow(self) -> bool:
        """Whether steps with keywords precede the next heading: not below free text."""
        for line in self.lines[self.at + 1 :]:
            stripped = line.strip()
            if stripped.startswith("@") or self.keywords.heading(stripped):
                return False
            step = self.keywords.step(stripped)
            if step is not None and step[1] != EVERY_LANGUAGE:
                return True
        return False

    def _nearly(self, line: str) -> str:
        heading = self.keywords.nearest_heading(line)
        meant = f"{heading}:" if heading else self._nearly_a_step(line)
        return f"did you mean '{meant}'?" if meant else ""

    def _nearly_a_step(self, line: str) -> str:
        """The step keyword that a line below a scenario probably means."""
        if self.block is None or self._in_description:
            return ""
        return self.keywords.nearest_step(line, 0.6 if self.block.steps else 0.8)
