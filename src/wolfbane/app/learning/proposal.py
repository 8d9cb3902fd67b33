"""A bridge file from what was worked out, with a comment for each inference."""

from __future__ import annotations

import re
from collections.abc import Sequence

import msgspec

from wolfbane.app.learning.commands import NamesGuess, SourceTest, template
from wolfbane.app.learning.readings import Reading
from wolfbane.app.learning.source_patterns import SourceTests
from wolfbane.formats.reported import ReportedTest
from wolfbane.kinds.bridge.toml_text import toml_list, toml_table, toml_text


class Mapped(msgspec.Struct, frozen=True):
    """Templates that make the same of an entry and of a test, and for how many they do."""

    name: str
    test: str
    matches: int
    part: str = ""

    def whole(self, called: str) -> str:
        """The test that something called so is, or is a part of."""
        match = re.search(self.part, called) if self.part else None
        return match["test"] if match else called


class Proposal(msgspec.Struct, frozen=True):
    """All parts of a bridge. ``failed`` and ``passed`` are exit codes.

    ``fails_unseen``: no test failed, so that the exit code for that is a guess.
    """

    about: str
    sources: SourceTests | None
    names: NamesGuess
    reading: Reading | None
    mapped: Mapped
    glob: str
    passed: Sequence[int]
    failed: Sequence[int]
    folder: str = ""
    unless_all: bool = False
    fails_unseen: bool = False
    per: str = ""


_OF_ENTRIES = ("{name}", "{group}.{name}", "{suite}.{name}")


def map_entries(entries: Sequence[ReportedTest], tests: Sequence[SourceTest]) -> Mapped:
    """The templates that match most entries to tests."""
    best = Mapped("{name}", "{name}", 0)
    by_name: dict[str, list[SourceTest]] = {}
    for test in tests:
        by_name.setdefault(test.name, []).append(test)
    for of_entry in _OF_ENTRIES:
        called = [
            of_entry.format(name=e.name, group=e.group, suite=e.suite) for e in entries
        ]  # fmt: skip
        made: dict[str, int] = {}
        for text in called:
            for test in (t for name, ts in by_name.items() if text.endswith(name) for t in ts):
                found = template(text, test.fields())
                if found is not None:
                    made[found] = made.get(found, 0) + 1
        for of_test in made:
            known = {test.called(of_test) for test in tests}
            matches = len(known & set(called))
            if matches > best.matches:
                part = _part(known, [text for text in called if text not in known])
                best = Mapped(of_entry, of_test, matches, part)
    return best


_PARTS = {
    "/": r"^(?P<test>[^/]+)/(?P<part>.+)$",
    "[": r"^(?P<test>[^\[]+)\[(?P<part>.*)\]$",
    "(": r"^(?P<test>[^(]+?) ?\((?P<part>.*)\)$",
    " / ": r"^(?P<test>.+?) / (?P<part>.+)$",
    "::": r"^(?P<test>.+?)::(?P<part>.+)$",
}
"""How the parts of a test are called, by the mark behind its name."""


def _part(known: set[str], others: Sequence[str]) -> str:
    """The pattern by which most of the other names are parts of known ones; empty without any."""
    counts = {}
    for mark, pattern in _PARTS.items():
        found = (re.search(pattern, text) for text in others)
        counts[mark] = sum(match is not None and match["test"] in known for match in found)
    best = max(counts, key=lambda mark: counts[mark])
    return _PARTS[best] if counts[best] else ""


def written(proposal: Proposal) -> str:
    """The bridge file."""
    lines = ["# Worked out by: wolfbane bridge learn", f"about = {toml_text(proposal.about)}", ""]
    lines += [*_find(proposal), *_run(proposal), *_read(proposal)]
    return "\n".join(lines) + "\n"


def _find(proposal: Proposal) -> list[str]:
    lines = ["[find]", f"files = [{toml_text(proposal.glob)}]", ""]
    sources = proposal.sources
    if sources is not None and proposal.names.how != "files":
        files = len({path for path, _ in sources.tests})
        lines += [
            f"# These find {len(sources.tests)} tests in {files} file{'s' * (files > 1)}; "
            f"{proposal.mapped.matches} of them are in the report.",
        ]  # fmt: skip
        if sources.listing:
            return [
                *lines, "[find.listing]", f"command = {toml_list(sources.listing)}",
                'format = "names"', f"pattern = {toml_text(sources.pattern)}", "",
            ]  # fmt: skip
        if sources.query:
            grammar, text = sources.query
            return [
                *lines, "[find.query]", f"grammar = {toml_text(grammar)}", "text = '''", text,
                "'''", "",
            ]  # fmt: skip
        lines += ["[find.lines]", f"test = {toml_text(sources.patterns.test)}"]
        if sources.patterns.group:
            lines.append(f"group = {toml_text(sources.patterns.group)}")
        if sources.patterns.tag:
            lines.append(f"tag = {toml_text(sources.patterns.tag)}")
        lines.append("")
    return lines


def _run(proposal: Proposal) -> list[str]:
    names = proposal.names
    per = proposal.per or names.per
    lines = [f"# {names.why}", "[run]", f"command = {toml_list(names.command)}"]
    if names.how != "files":
        lines.append(f'per = "{per}"')
    if proposal.fails_unseen:
        lines.append("# No test failed: the exit code for that was not seen.")
    lines += [
        f"passed = {list(proposal.passed)}", f"failed = {list(proposal.failed)}", "",
        "[run.names]",
        f'how = "{names.how}"',
    ]  # fmt: skip
    if names.how == "files":
        return [*lines, ""]
    lines += [f"{key} = {toml_text(value)}" for key, value in names.table().items()]
    if proposal.unless_all:
        lines += ["# The launcher has tests that the sources do not show.", "unless_all = true"]
    return [*lines, ""]


def _read(proposal: Proposal) -> list[str]:
    reading = proposal.reading
    if reading is None:
        return ["# The exit code alone tells how a file ended.", "[read]", 'format = "exit"']
    lines = [f"# Read from {reading.in_words}.", "[read]"]
    if reading.unseen:
        lines[0] += f" No line showed one that was {' or '.join(reading.unseen)}."
    lines += [
        f"{key} = {toml_text(value) if isinstance(value, str) else toml_table(value)}"
        for key, value in reading.table.items()
    ]
    if proposal.names.how == "files":
        return lines
    lines.append(f"name = {toml_text(proposal.mapped.name)}")
    if proposal.mapped.part:
        lines.append(f"part = {toml_text(proposal.mapped.part)}")
    if proposal.mapped.test != proposal.names.name:
        lines.append(f"test = {toml_text(proposal.mapped.test)}")
    return lines
