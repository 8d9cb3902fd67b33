"""Reports in files: ``--report FORMAT=PATH``."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import orjson

from wolfbane import __version__
from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.formats.ctrf.writer import ctrf
from wolfbane.formats.tap.writer import write_tap
from wolfbane.formats.xunit.writer import write_xunit
from wolfbane.reports.tables import write_csv, write_markdown
from wolfbane.results.record import READABLE, Record


def _held(record: Record) -> dict[str, str]:
    """Why tests are quarantined, by address."""
    entries = record.started.quarantined if record.started else {}
    return {address: entry.because for address, entry in entries.items()}


def _json(record: Record) -> bytes:
    whole = {"started": record.started, "results": record.results, "finished": record.finished}
    return orjson.dumps(whole, option=READABLE)


def _html(record: Record) -> bytes:
    from wolfbane.reports.html import write_html  # jinja2 takes a while: only where it is used

    return write_html(record)


def _mail(record: Record) -> bytes:
    from wolfbane.reports.mail import compose

    return compose(record).as_bytes()


def _xunit(record: Record) -> bytes:
    started = record.started
    name, began = (started.workspace, started.began) if started else ("", "")
    return write_xunit(record.results, name, began, _held(record))


def _tap(record: Record) -> bytes:
    return write_tap(record.results, _held(record))


def _ctrf(record: Record) -> bytes:
    started, finished = record.started, record.finished
    began = started.began if started else "1970-01-01T00:00:00+00:00"
    seconds = finished.seconds if finished else 0.0
    return orjson.dumps(
        ctrf(record.results, began, seconds, __version__, _held(record)), option=READABLE
    )


FORMATS: dict[str, Callable[[Record], bytes]] = {
    "html": _html, "xunit": _xunit, "tap": _tap, "ctrf": _ctrf, "json": _json, "csv": write_csv,
    "markdown": write_markdown, "mail": _mail,
}  # fmt: skip


def render(form: str, record: Record) -> bytes:
    """A report in a format."""
    return FORMATS[form](record)


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
    """Why a report cannot be written there, said before the run and not after it.

    A pipe or a device is no place for one: to open it may wait for ever.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.exists() and not path.is_file():
            return f"'{path}' is no regular file"
        is_new = not path.exists()
        path.open("ab").close()
        if is_new:
            path.unlink()
    except OSError as error:
        return str(error)
    return ""


def write_reports(targets: Sequence[tuple[str, Path]], record: Record) -> None:
    """Write each report. Raises InputError with those that could not be written after all."""
    problems = []
    for name, path in targets:
        try:
            path.write_bytes(render(name, record))
        except OSError as error:
            problems.append(Problem(f"the report cannot be written: {error}"))
    if problems:
        raise InputError(*problems)
