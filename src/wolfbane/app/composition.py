"""Builds a run step by step: the choices of each step, and the number of remaining tests."""

from __future__ import annotations

import tomllib
from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.inventory.scan import Inventory
from wolfbane.inventory.selection_request import SelectionRequest, read_choice
from wolfbane.model import Test
from wolfbane.reports.text import many
from wolfbane.selection import choose

MOST_TAGS = 20
STEPS = ("suites", "tags", "browsers", "env", "retries", "reports")
_FIELDS = {"suites": "suite", "tags": "tag", "browsers": "browser"}
_RETRIES = {
    "1": "retry failed tests once",
    "2": "retry up to two times",
    "3": "retry up to three times",
}


class Composition(msgspec.Struct):
    """The answers so far, by step: suites, tags, browsers, env, retries, reports."""

    inventory: Inventory
    answers: dict[str, list[str]] = msgspec.field(default_factory=dict)

    def offers(self, step: str) -> dict[str, str]:
        """The choices of a step, each with a description; empty if any text is allowed."""
        if step == "suites":
            counts = Counter(test.suite for test in self.chosen())
            names = [suite.name for suite in self.inventory.workspace.suites]
            return {name: many(counts[name], "test") for name in names}
        if step == "tags":
            counts = Counter(tag.text for test in self.chosen() for tag in test.tags)
            return {tag: many(count, "test") for tag, count in counts.most_common(MOST_TAGS)}
        if step == "browsers":
            counts = Counter(test.browser for test in self.chosen() if test.browser)
            return {name: many(count, "test") for name, count in counts.items()}
        if step == "env":
            default = self.inventory.workspace.settings.workspace.env
            names = list(self.inventory.workspace.settings.env)
            return {name: "the default" if name == default else "" for name in names}
        if step == "retries":
            return dict(_RETRIES)
        return {}

    def answer(self, step: str, arguments: Sequence[str]) -> None:
        """Use the words of a step, or their numbers. Raises InputError for invalid words."""
        offers = list(self.offers(step))
        known = [*offers, *self._more(step)]
        taken, problems = [], []
        for word in arguments:
            if word.isdecimal():
                number = int(word) - 1
            else:
                number = -1
            if 0 <= number < len(offers):
                taken.append(offers[number])
            elif not known or word in known:
                taken.append(word)
            else:
                problems.append(
                    Problem(
                        f"{step}: '{word}' is not one of the choices",
                        hint=did_you_mean(word, known),
                    )
                )
        if step == "retries" and len(taken) > 1:
            problems.append(Problem(f"retries: give one number, not {' and '.join(taken)}"))
        if problems:
            raise InputError(*problems)
        self.answers[step] = taken

    def _more(self, step: str) -> list[str]:
        """Words that are valid although they are not offered: tags of few tests."""
        if step != "tags":
            return []
        return [tag.text for test in self.inventory.tests for tag in test.tags]

    def chosen(self) -> tuple[Test, ...]:
        """The tests that the answers so far select."""
        fields = {field: self.answers.get(step, []) for step, field in _FIELDS.items()}
        choice = read_choice(
            SelectionRequest(fields=fields), self.inventory, self.inventory.workspace.root
        )
        return choose(choice, self.inventory.tests, {}).chosen

    def arguments(self) -> list[str]:
        """The arguments of ``wolfbane run`` that result from the answers."""
        options: Mapping[str, str] = {
            **{step: f"--{field}" for step, field in _FIELDS.items()},
            "retries": "--retries",
            "reports": "--report",
        }
        arguments = [
            text
            for step, option in options.items()
            for word in self.answers.get(step, [])
            for text in (option, word)
        ]
        if self.answers.get("env"):
            arguments += ["--env", ",".join(self.answers["env"])]
        return arguments


def read_answers(path: Path) -> Mapping[str, Any]:
    """The answers of a TOML file: one for each step, and ``then``. Raises InputError."""
    try:
        answers = tomllib.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError) as error:
        raise InputError(Problem(f"cannot read the file: {error}", str(path))) from None
    known = [*STEPS, "then"]
    problems = []
    for key, value in answers.items():
        listed = isinstance(value, list) and all(isinstance(item, str) for item in value)
        if key not in known:
            problems.append(
                Problem(
                    message=f"unknown key '{key}'",
                    file=str(path),
                    line=0,
                    hint=did_you_mean(key, known),
                )
            )
        elif key == "retries" and type(value) is int:
            continue
        elif not (isinstance(value, str) or (listed and key != "then")):
            problems.append(Problem(f"'{key}' must be a text or a list of texts", str(path)))
    if problems:
        raise InputError(*problems)
    return answers
