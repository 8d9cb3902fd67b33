"""The quarantine: a reviewed file of dated entries.

A failure of these tests does not fail a run.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from wolfbane.basis.files import read_regular, write_whole
from wolfbane.basis.toml_lines import Location, line_index, line_of
from wolfbane.errors import ExpressionError, InputError, Problem, did_you_mean
from wolfbane.events.run_events import Quarantined
from wolfbane.model import Test
from wolfbane.selection import Expression, Matcher, any_of, parse
from wolfbane.workspace.include import within
from wolfbane.workspace.settings import Workspace

NAME = "quarantine.toml"
TABLE = "quarantined"
_HEAD = """\
# Quarantined tests: their failures do not fail a run. Each entry has a reason and dates.
# `wolfbane quarantine` edits this file. Review changes to it as you review code.
"""


class QuarantineEntry(msgspec.Struct, frozen=True):
    """An entry: an expression, the reason, the start date and the end date."""

    match: str
    because: str
    since: date
    until: date | None = None
    owner: str = ""
    ticket: str = ""
    line: int = 0
    file: str = NAME

    def is_over(self, today: date) -> bool:
        """Whether its end date has passed."""
        return self.until is not None and today > self.until

    def days(self, today: date) -> int:
        """The number of days since its start."""
        return (today - self.since).days


_KEYS = [name for name in QuarantineEntry.__struct_fields__ if name not in ("line", "file")]


class Quarantine:
    """The entries of a workspace, and the tests that they match."""

    def __init__(self, entries: Sequence[QuarantineEntry]) -> None:
        self.entries = list(entries)
        self._matchers: list[tuple[QuarantineEntry, Callable[[Test], bool]]] = [
            (entry, Matcher(parse(entry.match))) for entry in entries
        ]

    def entry(self, test: Test) -> QuarantineEntry | None:
        """The first entry that matches a test."""
        return next((entry for entry, matches in self._matchers if matches(test)), None)

    def empty(self, tests: Sequence[Test]) -> list[QuarantineEntry]:
        """Entries that no longer match any of these tests."""
        return [entry for entry, matches in self._matchers if not any(map(matches, tests))]

    def expression(self) -> Expression | None:
        """All entries as one expression; None without entries."""
        if self.entries:
            return any_of([parse(entry.match) for entry in self.entries])
        return None


def read_quarantine(workspace: Workspace) -> Quarantine:
    """The quarantine of a workspace and of its included ones.

    Raises InputError with all problems.
    """
    entries = read_entries(workspace.home)
    for folder in workspace.included:
        for entry in read_entries(workspace.home / folder):
            moved = str(within(entry.match, folder))
            entries.append(replace(entry, match=moved, file=f"{folder}/{entry.file}"))
    return Quarantine(entries)


def read_entries(root: Path) -> list[QuarantineEntry]:
    """The entries of the file in a folder, if there is one. Raises InputError with all problems."""
    path = root / NAME
    try:
        text = read_regular(path).decode("utf-8")
        data = tomllib.loads(text)
    except FileNotFoundError:
        return []
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(Problem(f"cannot read the file: {error}", NAME)) from None
    except tomllib.TOMLDecodeError as error:
        raise InputError(Problem(f"not valid TOML: {error}", NAME)) from None
    lines = line_index(text)
    entries, problems = [], []
    for key in data:
        if key != TABLE:
            hint = did_you_mean(key, [TABLE])
            problems.append(
                Problem(
                    message=f"unknown table '{key}'",
                    file=NAME,
                    line=line_of(lines, (key,)),
                    hint=hint,
                )
            )
    for index, table in enumerate(data.get(TABLE, ())):
        line = line_of(lines, (TABLE, index))
        location: Location = (TABLE, index)
        wrong = list(_problems(table, partial(_line, lines, location)))
        problems += wrong
        if not wrong:
            entries.append(QuarantineEntry(**table, line=line))
    if problems:
        raise InputError(*problems)
    return entries


def _line(lines: dict[Location, int], location: Location, *key: str) -> int:
    return line_of(lines, (*location, *key))


def _problems(table: Mapping[str, Any], line: Callable[..., int]) -> Iterable[Problem]:
    for key, value in table.items():
        if key not in _KEYS:
            yield Problem(
                message=f"unknown key '{key}'",
                file=NAME,
                line=line(key),
                hint=did_you_mean(key, _KEYS),
            )
        elif key in ("since", "until"):
            if type(value) is not date:
                yield Problem(f"'{key}' is not a date; write {key} = 2026-06-01", NAME, line(key))
        elif not isinstance(value, str):
            yield Problem(f"'{key}' must be a text", NAME, line(key))
    for key in ("match", "because", "since"):
        if not table.get(key):
            yield Problem(f"'{key}' is missing", NAME, line())
    try:
        parse(str(table.get("match") or "everything"))
    except ExpressionError as error:
        yield Problem(str(error), NAME, line("match"))


def add(root: Path, entry: QuarantineEntry) -> None:
    """Append an entry to the file. Raises InputError if it already exists."""
    import tomlkit

    if any(entry.match == other.match for other in read_entries(root)):
        raise InputError(Problem(f"these tests are already quarantined: {entry.match}", NAME))
    path = root / NAME
    if path.exists():
        text = path.read_text(encoding="utf-8")
    else:
        text = _HEAD
    table = tomlkit.table()
    for key in _KEYS:
        if value := getattr(entry, key):
            table.add(key, value)
    document = tomlkit.document()
    array = tomlkit.aot()
    array.append(table)
    document.add(TABLE, array)
    write_whole(path, text.rstrip("\n") + "\n\n" + tomlkit.dumps(document))


def release(root: Path, matches: Sequence[str]) -> None:
    """Remove entries from the file, by their expressions; the rest of the file stays unchanged."""
    import tomlkit

    path = root / NAME
    document = tomlkit.parse(path.read_text(encoding="utf-8"))
    array: Any = document[TABLE]
    for index in reversed(range(len(array))):
        if array[index]["match"] in matches:
            del array[index]
    if not array:
        del document[TABLE]
    write_whole(path, tomlkit.dumps(document))


def quarantined_in(
    quarantine: Quarantine, tests: Iterable[Test], today: date
) -> dict[str, Quarantined]:
    """The quarantined tests among these, by address, with the reason and the end date."""
    if not quarantine.entries:
        return {}
    quarantined = {}
    for test in tests:
        if entry := quarantine.entry(test):
            quarantined[test.address] = Quarantined(
                because=entry.because,
                days=entry.days(today),
                until=entry.until.isoformat() if entry.until else "",
                owner=entry.owner,
                ticket=entry.ticket,
                over=entry.is_over(today),
            )
    return quarantined
