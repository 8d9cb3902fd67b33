"""The questions of ``wolfbane bridge learn``, and a file with their answers."""

from __future__ import annotations

import shlex
import sys
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.streams import echo
from wolfbane.errors import InputError, Problem, did_you_mean

if TYPE_CHECKING:
    from wolfbane.app.bridges.best_reading import Commands
    from wolfbane.app.bridges.learn import UnknownResults
    from wolfbane.app.bridges.planted_failures import May

_TEXTS = ("all", "one", "report", "list", "name", "group", "reason")
_OUTCOMES = ("passed", "failed", "skipped")
_LINES = 20
"""Lines of a launcher's output that are shown before a question."""


def ask_vocabulary(error: UnknownResults) -> dict[str, list[str]]:
    """The launcher's words for outcomes, selected from its output."""
    echo("\nThe output for all tests. Lines with * are also in the output for the one test:\n")
    for line, alone in error.lines[:_LINES]:
        echo(f"  {'*' if alone else ' '} {line}")
    if len(error.lines) > _LINES:
        echo(f"    and {len(error.lines) - _LINES} more lines")
    echo("\nWhich words or marks show the outcome of a test? Separate several with blanks.")
    vocabulary = {
        outcome: click.prompt(f"  {outcome}", default="", show_default=False).split()
        for outcome in _OUTCOMES
    }
    return {outcome: values for outcome, values in vocabulary.items() if values}


def ask_name(commands: Commands) -> str:
    """The name of the test that the command for one test runs, as the output shows it."""
    question = "The name of the one test, exactly as the output shows it"
    name: str = click.prompt(question, default=commands.one[-1])
    return name


def ask_part(part: str) -> str:
    """A part of the lines, if they have it."""
    question = f"The {part}, exactly as the output shows it (leave empty if there is none)"
    text: str = click.prompt(question, default="", show_default=False)
    return text


def ask(question: str, option: str) -> str:
    """The answer of a user at a terminal. Raises InputError, with the option, if there is none."""
    if not sys.stdin.isatty():
        raise InputError(Problem(f"{question.lower()} was not given", hint=f"use {option}"))
    answer: str = click.prompt(question)
    return answer


def read_answers(file: Path | None) -> tuple[dict[str, str], dict[str, list[str]]]:
    """The commands and names of a file, and the words for each outcome."""
    if file is None:
        return {}, {}
    try:
        data = tomllib.loads(file.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise InputError(Problem(f"cannot read the file: {error}", str(file))) from None
    texts: dict[str, str] = {}
    vocabulary: dict[str, list[str]] = {}
    for key, value in data.items():
        if key in _OUTCOMES:
            vocabulary[key] = value.split() if isinstance(value, str) else value
            if not isinstance(vocabulary[key], list) or not all(
                isinstance(w, str) for w in vocabulary[key]
            ):
                raise InputError(Problem(f"'{key}' must be a list of texts", str(file)))
        elif key not in _TEXTS:
            hint = did_you_mean(key, [*_TEXTS, *_OUTCOMES])
            raise InputError(Problem(f"unknown key '{key}'", str(file), hint=hint))
        elif not isinstance(value, str):
            raise InputError(Problem(f"'{key}' must be a text", str(file)))
        else:
            texts[key] = value
    return texts, vocabulary


def split_command(option: str, line: str, folder: Path, may: May) -> list[str]:
    """The arguments of a command line; a line that needs a shell runs in one if the user agrees."""
    from wolfbane.app.bridges import NeedsScript, needs_shell, split, through_shell

    try:
        tokens = split(line, folder)
    except ValueError as error:
        raise InputError(Problem(f"{option} '{line}': {error}")) from None
    if not tokens:
        raise InputError(Problem(f"{option} is empty"))
    if not needs_shell(line):
        return tokens
    try:
        made = through_shell(line, folder)
    except NeedsScript as error:
        problem = f"{option} '{line}' needs a shell, but no shell can be used: {error}"
        raise InputError(Problem(problem, hint="put the command into a script")) from None
    if not may(f"{option} needs a shell. Run this command: {shlex.join(made)}?"):
        raise InputError(Problem(f"{option} '{line}' needs a shell", hint="use --yes to allow it"))
    return made
