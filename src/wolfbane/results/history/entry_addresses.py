"""Creates stable addresses for the tests of imported reports."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence

from wolfbane.formats.reported import ReportedTest, address_of
from wolfbane.model import NESTED, Outcome
from wolfbane.results.history.entries import TestEnd

ALIKE = " (alike "
"""The text before the number of an entry that is identical to others, except for its outcome."""
_ORDER = {str(outcome): number for number, outcome in enumerate(Outcome)}
_LONGEST = 60
"""Maximum length of a property that may be a part of an address."""
_ABOUT_ONE_RUN = frozenset(
    {"tag", "attempt", "seed", "time", "timestamp", "date", "pid", "port", "uuid", "id"}
)
"""Words in the names of properties that do not belong to a test."""
_WORD = re.compile("[A-Z]?[a-z]+|[A-Z]+")


def addresses(entries: Sequence[ReportedTest]) -> list[str]:
    """One for each entry, in order. Addresses of tests do not depend on this order.

    ``FILE#GROUP / NAME``, and if several entries have the same, everything that distinguishes them:
    the suite, its file, its host, a property. Entries that are identical in all of these are
    numbered, by outcome.
    """
    labels = [address_of(entry) for entry in entries]
    for told_apart_by in (_suite, _file, _host):
        for members in _same(labels):
            distinctions = [told_apart_by(entries[n]) for n in members]
            if len(set(distinctions)) > 1:
                for n, word in zip(members, distinctions, strict=True):
                    labels[n] = _with(labels[n], word, told_apart_by)
    for members in _same(labels):
        for name, values in _properties([entries[n] for n in members]).items():
            if len({labels[n] for n in members}) < len(members):
                for n, value in zip(members, values, strict=True):
                    if value:
                        labels[n] += f" ({name}={value})"
    for members in _same(labels):
        by_outcome = sorted(members, key=lambda n: _ORDER[str(entries[n].outcome)])
        for number, n in enumerate(by_outcome[1:], 2):
            labels[n] += f"{ALIKE}{number})"
    return labels


def _same(labels: Sequence[str]) -> Iterator[list[int]]:
    """The numbers of entries with the same address, for each shared address."""
    members: dict[str, list[int]] = {}
    for number, address in enumerate(labels):
        members.setdefault(address, []).append(number)
    yield from (numbers for numbers in members.values() if len(numbers) > 1)


def _suite(entry: ReportedTest) -> str:
    return entry.suite


def _file(entry: ReportedTest) -> str:
    return entry.suite_file


def _host(entry: ReportedTest) -> str:
    return entry.host


def _with(address: str, word: str, told_apart_by: Callable[[ReportedTest], str]) -> str:
    if not word:
        return address
    if told_apart_by is _suite:
        path, _, name = address.partition("#")
        return f"{path}#{word}{NESTED}{name}"
    return f"{address} ({word})"


def _properties(entries: Sequence[ReportedTest]) -> dict[str, list[str]]:
    """Short properties that differ between entries, by name, each with all values.

    Properties of the tests are first, then those of their suites.
    """
    own = [dict(entry.properties) for entry in entries]
    suites = [dict(entry.suite_properties) for entry in entries]
    properties: dict[str, list[str]] = {}
    for level in (own, suites):
        for name in dict.fromkeys(name for each in level for name in each):
            values = [each.get(name, "") for each in level]
            short = all(len(value) <= _LONGEST and "\n" not in value for value in values)
            if name not in properties and short and len(set(values)) > 1 and not _of_one_run(name):
                properties[name] = values
    return properties


def _of_one_run(name: str) -> bool:
    return not _ABOUT_ONE_RUN.isdisjoint(word.lower() for word in _WORD.findall(name))


def as_sets(
    before: Mapping[str, TestEnd], after: Mapping[str, TestEnd]
) -> tuple[dict[str, TestEnd], dict[str, TestEnd]]:
    """Both sides, in which identical entries have the address of an entry with the same outcome.

    Nothing distinguishes them: if one of five failed before and one of five fails now, nothing has
    changed.
    """
    sides = dict(before), dict(after)
    names = dict.fromkeys(a.partition(ALIKE)[0] for side in sides for a in side if ALIKE in a)
    for name in names:
        old, now = (_taken(side, name) for side in sides)
        stayed = []
        for each in list(old):
            if same := next((other for other in now if other.outcome == each.outcome), None):
                stayed.append((each, same))
                old.remove(each)
                now.remove(same)
        for side, group in zip(
            sides, ([a for a, _ in stayed] + old, [b for _, b in stayed] + now), strict=True
        ):
            side.update((_numbered(name, n), ended) for n, ended in enumerate(group, 1))
    return sides


def _taken(side: dict[str, TestEnd], name: str) -> list[TestEnd]:
    """Remove the entries with one name from a side."""
    addresses = [a for a in side if a == name or a.startswith(f"{name}{ALIKE}")]
    return [side.pop(address) for address in addresses]


def _numbered(name: str, number: int) -> str:
    if number > 1:
        return f"{name}{ALIKE}{number})"
    return name
