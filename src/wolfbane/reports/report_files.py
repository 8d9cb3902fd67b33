"""Writes report files: ``--report FORMAT=PATH``."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Sequence
from pathlib import Path

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.formats.registry import WRITERS
from wolfbane.results.record import Record

Writer = Callable[[Record], bytes]
"""Makes a report of a run's record."""


def find_writer(form: str) -> Writer:
    """The writer of a format. It is imported now, because some need large libraries."""
    module, _, function = WRITERS[form].partition(":")
    writer: Writer = getattr(importlib.import_module(module), function)
    return writer


def render(form: str, record: Record) -> bytes:
    """A report in a format."""
    return find_writer(form)(record)


def read_targets(given: Sequence[str]) -> list[tuple[str, Path]]:
    """Check ``FORMAT=PATH`` texts before anything runs. Raises InputError."""
    targets, problems = [], []
    for text in given:
        name, _, path = text.partition("=")
        if name not in WRITERS:
            hint = did_you_mean(name, WRITERS)
            problems.append(Problem(f"--report {text}: unknown format '{name}'", hint=hint))
        elif not path:
            problems.append(Problem(f"--report {text}: the path is missing; use {name}=PATH"))
        elif Path(path).is_dir():
            problems.append(Problem(f"--report {text}: '{path}' is a folder"))
        elif why := _unwritable(Path(path)):
            problems.append(Problem(f"--report {text}: cannot write the report: {why}"))
        targets.append((name, Path(path)))
    if problems:
        raise InputError(*problems)
    return targets


def _unwritable(path: Path) -> str:
    """The reason why a report cannot be written there, found before the run.

    A pipe or a device is not suitable: opening it may block.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.exists() and not path.is_file():
            return f"'{path}' is not a regular file"
        is_new = not path.exists()
        path.open("ab").close()
        if is_new:
            path.unlink()
    except OSError as error:
        return str(error)
    return ""


def write_reports(targets: Sequence[tuple[str, Path]], record: Record) -> None:
    """Write each report. Raises InputError with those that could not be written."""
    problems = []
    for name, path in targets:
        try:
            path.write_bytes(render(name, record))
        except OSError as error:
            problems.append(Problem(f"cannot write the report: {error}"))
    if problems:
        raise InputError(*problems)
