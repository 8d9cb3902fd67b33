"""Reports in files: ``--report FORMAT=PATH``."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path

import orjson

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.formats.xunit import write_xunit
from wolfbane.results.record import READABLE, Record


def _json(record: Record) -> bytes:
    return orjson.dumps(record, option=READABLE)


def _xunit(record: Record) -> bytes:
    started = record.started
    name, began = (started.workspace, started.began) if started else ("", "")
    return write_xunit(record.results, name, began)


FORMATS: dict[str, Callable[[Record], bytes]] = {"xunit": _xunit, "json": _json}


def read_targets(given: Sequence[str]) -> list[tuple[str, Path]]:
    """Check ``FORMAT=PATH`` texts before anything runs. Raises InputError."""
    targets, problems = [], []
    for text in given:
        name, _, path = text.partition("=")
        if name not in FORMATS:
            hint = did_you_mean(name, FORMATS)
            problems.append(Problem(f"--report {text}: unknown format '{name}'", hint=hint))
        elif not path:
            problems.append(Problem(f"--report {text}: write it as {name}=PATH"))
        elif Path(path).is_dir():
            problems.append(Problem(f"--report {text}: '{path}' is a folder"))
        elif why := _unwritable(Path(path)):
            problems.append(Problem(f"--report {text}: it cannot be written: {why}"))
        targets.append((name, Path(path)))
    if problems:
        raise InputError(*problems)
    return targets


def _unwritable(path: Path) -> str:
    """Why a report cannot be written there, said before the run and not after it."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        return str(error)
    target = path if path.exists() else path.parent
    return "" if os.access(target, os.W_OK) else f"no permission for '{target}'"


def write_reports(targets: Sequence[tuple[str, Path]], record: Record) -> None:
    """Write each report. Raises InputError where that fails after all."""
    for name, path in targets:
        try:
            path.write_bytes(FORMATS[name](record))
        except OSError as error:
            raise InputError(Problem(f"the report cannot be written: {error}")) from None
