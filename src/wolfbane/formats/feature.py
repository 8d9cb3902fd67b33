"""Plain-language feature files: Given, When, Then.

A feature holds scenarios, and rules that hold scenarios; a background's steps come before those
of every scenario beside it; an outline is one scenario for each row of its example tables. What
comes out is flat: every scenario with all of its steps and tags.

Runs on Python 3.8 and later by itself, for suites' own interpreters read these files too.
"""

from __future__ import annotations

import difflib
import re
from dataclasses import replace

from wolfbane.formats.keywords import ENGLISH, EVERY_LANGUAGE, HEADINGS, KEYWORDS, STEPS
from wolfbane.formats.scenarios import (
    Block,
    Examples,
    Feature,
    FeatureError,
    Scenario,
    Section,
    Step,
    distinct,
    expanded,
)

__all__ = ["Feature", "FeatureError", "Scenario", "Section", "Step", "read"]

_LANGUAGE = re.compile(r"^\s*#\s*language\s*:\s*(\S+)\s*$")
_TAG = re.compile(r"@[^\s@]+")
_CELL = re.compile(r"((?:\\.|[^|\\])*)\|")
_ESCAPED = re.compile(r"\\(.)")
_FENCE = re.compile(r'^(\s*)("""|```)\s*(\S*)\s*$')


def read(text: str) -> Feature:
    """Read a feature file. Raises FeatureError for the first thing that is wrong."""
    return _Reader(text).read()


class _Reader:
    def __init__(self, text: str) -> None:
        self.lines = text.splitlines()
        self.at = 0
        self.language = ENGLISH
        self.words = KEYWORDS[ENGLISH]
        self.tags: list[str] = []
        self.tags_line = 0
        self.feature: tuple[str, list[str]] | None = None
        self.rule: tuple[str, list[str], int] = ("", [], 0)
        self.background: list[Step] = []
        self.rule_background: list[Step] = []
        self.blocks: list[Block] = []
        self.block: Block | None = None
        self.sections: list[Section] = []

    def read(self) -> Feature:
        while self.at < len(self.lines):
            self._line(self.lines[self.at])
            self.at += 1
        if self.tags:
            raise FeatureError("tags that stand above nothing", self.tags_line)
        if self.feature is None:
            word = self.words["feature"][0]
            raise FeatureError(f"there is no '{word}:' in it", max(1, len(self.lines)))
        self._close_rule()
        name, tags = self.feature
        scenarios = distinct([s for block in self.blocks for s in expanded(block)])
        self.sections += [
            Section(block.full_name, block.line, block.end)
            for block in self.blocks
            if block.kind == "outline"
        ]
        return Feature(name, self.language, tuple(tags), tuple(scenarios), tuple(self.sections))

    # One line after the other.

    def _line(self, line: str) -> None:
        stripped = line.strip()
        number = self.at + 1
        language = _LANGUAGE.match(line)
        if language and self.feature is None:
            self._speak(language[1], number)
        elif not stripped or stripped.startswith("#"):
            return
        elif stripped.startswith("@"):
            self.tags_line = self.tags_line if self.tags else number
            self.tags += _tags(stripped, number)
        elif heading := self._heading(stripped):
            self._open(*heading, number)
        elif stripped.startswith("|"):
            self._table(number)
        elif _FENCE.match(line):
            self._doc(number)
        elif step := self._step(stripped, number):
            self._add(step)
        else:
            self._prose(stripped, number)
        if self.block and stripped:
            self.block.end = self.at + 1

    def _speak(self, language: str, number: int) -> None:
        words = KEYWORDS.get(language.lower())
        if words is None:
            known = ", ".join(sorted(KEYWORDS))
            raise FeatureError(f"unknown language '{language}'; there is: {known}", number)
        self.language, self.words = language.lower(), words

    def _heading(self, line: str) -> tuple[str, str] | None:
        for kind in HEADINGS:
            for word in self.words[kind]:
                if line.startswith(f"{word}:"):
                    return kind, line[len(word) + 1 :].strip()
        return None

    def _step(self, line: str, number: int) -> Step | None:
        for kind in STEPS:
            for word in self.words[kind]:
                if line == word:
                    raise FeatureError(f"'{word}' without words after it", number)
                if line.startswith(f"{word} "):
                    return Step(word, kind, line[len(word) :].strip(), number)
        if line.startswith(f"{EVERY_LANGUAGE} "):
            return Step(EVERY_LANGUAGE, "and", line[2:].strip(), number)
        return None

    def _open(self, kind: str, name: str, number: int) -> None:
        tags, self.tags = self.tags, []
        if kind == "feature":
            if self.feature is not None:
                raise FeatureError("a file holds one feature, and this is a second", number)
            self.feature = (name, tags)
            return
        if self.feature is None:
            raise FeatureError(f"'{self.words['feature'][0]}:' has to come first", number)
        if kind == "rule":
            self._close_rule()
            self.rule, self.rule_background = (name, tags, number), []
            self.block = None
        elif kind == "examples":
            if self.block is None or self.block.kind not in ("outline", "scenario"):
                raise FeatureError("examples belong below an outline", number)
            self.block.kind = "outline"
            self.block.examples.append(Examples(number, tags))
        elif kind == "background":
            if self.blocks and self.blocks[-1].rule == self.rule[0]:
                raise FeatureError("a background stands before the scenarios", number)
            steps = self.rule_background if self.rule[0] else self.background
            self.block = Block(kind, name, number, [], self.rule[0], [], steps)
        else:
            inherited = [*self.feature[1], *self.rule[1]]
            before = [*self.background, *self.rule_background]
            if not name:
                name = f"scenario of line {number}"
            self.block = Block(kind, name, number, [*inherited, *tags], self.rule[0], before)
            self.blocks.append(self.block)

    def _close_rule(self) -> None:
        name, _, start = self.rule
        if name:
            self.sections.append(Section(name, start, self.at))

    def _add(self, step: Step) -> None:
        if self.block is None or self.block.examples:
            raise FeatureError("a step that belongs to no scenario", step.line)
        before = [*self.block.before, *self.block.steps]
        if step.kind == "and":
            step = replace(step, kind=before[-1].kind if before else "given")
        self.block.steps.append(step)

    def _table(self, number: int) -> None:
        rows: list[tuple[int, tuple[str, ...]]] = []
        while self.at < len(self.lines):
            line = self.lines[self.at].strip()
            if line.startswith("|"):
                rows.append((self.at + 1, _cells(line, self.at + 1)))
            elif line and not line.startswith("#"):
                break
            self.at += 1
        self.at -= 1
        for place, cells in rows:
            if len(cells) != len(rows[0][1]):
                message = f"this row has {len(cells)} cells, the first one {len(rows[0][1])}"
                raise FeatureError(message, place)
        if self.block and self.block.examples and not self.block.examples[-1].rows:
            self.block.examples[-1].rows = rows
        elif self.block and self.block.steps and not self.block.examples:
            table = tuple(cells for _, cells in rows)
            self.block.steps[-1] = replace(self.block.steps[-1], table=table)
        else:
            raise FeatureError("a table that belongs to no step", number)

    def _doc(self, number: int) -> None:
        match = _FENCE.match(self.lines[self.at])
        assert match is not None
        indent, fence = len(match[1]), match[2]
        if self.block is None or not self.block.steps or self.block.examples:
            raise FeatureError("a text that belongs to no step", number)
        kept = []
        for index in range(self.at + 1, len(self.lines)):
            line = self.lines[index]
            if line.strip() == fence:
                self.at = index
                break
            kept.append(line[min(indent, len(line) - len(line.lstrip())) :])
        else:
            raise FeatureError(f"the text that begins here has no closing {fence}", number)
        self.block.steps[-1] = replace(self.block.steps[-1], doc="\n".join(kept))

    def _prose(self, line: str, number: int) -> None:
        """A description: free text below a heading. Elsewhere it is a mistake."""
        free = self.block is None or not (self.block.steps or self.block.examples)
        if self.feature is not None and free and not self.tags:
            words = [word for kind in HEADINGS for word in self.words[kind]]
            if not (line.endswith(":") and line[:-1] in words) and not self._nearly(line):
                return
        hint = self._nearly(line) or "a step, a table, a text in quotes or a heading stands here"
        raise FeatureError(f"'{_short(line)}' is none of these: {hint}", number)

    def _nearly(self, line: str) -> str:
        """The heading that a line with a colon early on may be meant for."""
        head, colon, _ = line.partition(":")
        headings = [word for kind in HEADINGS for word in self.words[kind]]
        first = line.split(" ", 1)[0]
        steps = [word for kind in STEPS for word in self.words[kind]]
        if colon and (close := difflib.get_close_matches(head, headings, 1, 0.75)):
            return f"did you mean '{close[0]}:'?"
        begun = self.block is not None and bool(self.block.steps)
        close = difflib.get_close_matches(first, steps, 1, 0.6 if begun else 0.8)
        if self.block is not None and close:
            return f"did you mean '{close[0]}'?"
        return ""


def _tags(line: str, number: int) -> list[str]:
    line = re.sub(r"\s#.*", "", line)
    rest = _TAG.sub("", line).strip()
    if rest:
        raise FeatureError(f"'{_short(rest)}' in a line of tags: each begins with @", number)
    return [tag[1:] for tag in _TAG.findall(line)]


def _cells(line: str, number: int) -> tuple[str, ...]:
    cells = _CELL.findall(line[1:])
    if not cells or not line.endswith("|"):
        raise FeatureError("a row of a table ends with |", number)
    return tuple(
        _ESCAPED.sub(lambda m: {"n": "\n"}.get(m[1], m[1]), cell.strip()) for cell in cells
    )


def _short(line: str) -> str:
    return line if len(line) <= 40 else f"{line[:37]}..."
