"""The names of tests in the launcher's command and in its report."""

from __future__ import annotations

import os
import re
import string
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from wolfbane.model import NESTED


@dataclass(frozen=True)
class LauncherName:
    """A test with its name in the launcher. ``file`` is relative to the suite's folder.

    ``read_as`` is its name in the report. ``number`` is its position among the ``among`` tests of
    its file with the same name in the report. ``line`` is its line in the source, or 0.
    """

    path: str
    name: str
    file: str
    known_as: str
    read_as: str = ""
    number: int = 1
    among: int = 1
    line: int = 0

    @property
    def address(self) -> str:
        """The test's own name, or that of the file that is the test."""
        return f"{self.path}#{self.name}" if self.name else self.path


def called(
    chosen: Mapping[str, Sequence[str]],
    known: Mapping[str, Sequence[Sequence[Any]]],
    relative: Callable[[str], str],
    bridge: Mapping[str, Any],
) -> list[LauncherName]:
    """The launcher's names for the selected tests of each path, by the templates of the bridge.

    For each known test: its name, its group, its name in the source if different, and its line.
    """
    names = bridge["run"]["names"]
    given, read, nested = names["name"], read_template(bridge), names["nested"]
    matches = []
    for path, wanted in chosen.items():
        file = relative(path)
        calls: dict[str, tuple[str, str]] = {}
        lines: dict[str, int] = {}
        for name, group, source, line in known[path]:
            test = fields_of(file, name, group, source=source, nested=nested) | {
                "line": str(line or "")
            }
            calls[name] = fill(given, test), fill(read, test).strip()  # as reports have them
            lines[name] = line or 0
        numbers: Counter[str] = Counter()
        number = {}
        for name, (_, read_as) in calls.items():
            numbers[read_as] += 1
            number[name] = numbers[read_as]
        matches += [
            LauncherName(
                path=path,
                name=name,
                file=file,
                known_as=calls[name][0],
                read_as=calls[name][1],
                number=number[name],
                among=numbers[calls[name][1]],
                line=lines[name],
            )
            for name in wanted
        ]
    return matches


def read_template(bridge: Mapping[str, Any]) -> str:
    """Computes the name of a test in the report."""
    template: str = bridge["read"].get("test") or bridge["run"]["names"]["name"]
    return template


def fields_of(file: str, name: str, group: str, source: str, nested: str) -> dict[str, str]:
    """The values of a template: ``source`` is a name that the test's own name does not contain."""
    last = source or (name[len(group) + len(NESTED) :] if group else name)
    return {"name": last, "group": nested.join(group.split(NESTED)), **fields_of_file(file)}


def fields_of_file(file: str) -> dict[str, str]:
    """The values from a file in a template: in a module and in a package, which is its folder,
    folders are joined by dots.
    """
    whole, _ = os.path.splitext(file)
    folder = os.path.dirname(file)
    return {
        "file": file,
        "folder": folder,
        "stem": os.path.basename(whole),
        "module": whole.replace("/", "."),
        "package": folder.replace("/", "."),
    }


class _Template(string.Formatter):
    """The text after the colon of a placeholder follows its value, if the value is not empty."""

    def format_field(self, value: Any, format_spec: str) -> str:
        if value:
            return f"{value}{format_spec}"
        return ""


def fill(template: str, fields: Mapping[str, str]) -> str:
    """A template of a bridge with its placeholders filled in."""
    return _Template().vformat(template, (), fields)


class CalledBack(NamedTuple):
    """The name of a test and of its group, in the form of addresses."""

    name: str
    group: str

    @property
    def whole(self) -> str:
        """The name in the form of an address."""
        if self.group:
            return f"{self.group}{NESTED}{self.name}"
        return self.name


def called_back(read_as: str, file: str, bridge: Mapping[str, Any]) -> CalledBack | None:
    """The name of a test from its name in the report; None if the template is ambiguous.

    It is the inverse of :func:`called` with the template of the bridge.
    """
    template, nested = read_template(bridge), bridge["run"]["names"]["nested"]
    pieces, known = [], fields_of_file(file)
    for text, field, after, _ in string.Formatter().parse(template):
        pieces.append(re.escape(text))
        if field in known:
            pieces.append(re.escape(f"{known[field]}{after}" if known[field] else ""))
        elif field:
            pieces.append(
                f"(?:(?P<{field}>.*){re.escape(after)})?" if after else f"(?P<{field}>.*)"
            )
    match = re.fullmatch("".join(pieces), read_as, re.DOTALL)
    if match is None or not (parts := match.groupdict()).get("name"):
        return None
    group = NESTED.join(filter(None, (parts.get("group") or "").split(nested)))
    back = CalledBack(parts["name"], group)
    fields = fields_of(file, back.whole, back.group, source="", nested=nested)
    same = fill(template, {**fields, "line": ""}).strip() == read_as
    if same:
        return back
    return None
