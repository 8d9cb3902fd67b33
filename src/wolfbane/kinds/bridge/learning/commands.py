"""Learns how a launcher accepts test names, from a command that runs one test."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from wolfbane.kinds.bridge.runner.naming import fields_of_file, fill

_WRAPS = (("^(", ")$"), ("^", "$"), ("", ""))
_OF_GROUP = re.compile(r"\{group\}([^{}]+)")
"""A group and the text between it and the name. A test without a group has neither."""
_OPTION = re.compile(r"(?P<before>[-/]{0,2}[\w-]+[=:])(?P<value>.+)")
"""A value in one argument with its option: ``--only=NAME``, ``only=NAME`` or ``/only:NAME``."""
_SHORTEST_PART = 3
_FEW_LINES = 3
_ESCAPE = re.compile(r"\\([^\w\s])")


class SourceTest(msgspec.Struct, frozen=True):
    """A test found in the sources. The parts of ``group`` are joined by dots."""

    file: str
    group: str
    name: str

    def fields(self) -> dict[str, str]:
        """The fields that templates can use."""
        return {"name": self.name, "group": self.group, **fields_of_file(self.file)}

    def called(self, template: str) -> str:
        """The text that a template produces for the test."""
        return fill(template, self.fields())


class NamesGuess(msgspec.Struct, frozen=True):
    """A command that contains ``{names}``, and ``[run.names]``.

    ``why`` is the reason for the guess.

    ``test`` is the named test. If files are the tests, ``file`` is set.
    """

    command: Sequence[str | Sequence[str]]
    how: str
    name: str = "{name}"
    option: str = ""
    whole: str = ""
    why: str = ""
    separator: str = ""
    file: str = ""
    test: SourceTest | None = None

    def table(self) -> dict[str, str]:
        """The keys of ``[run.names]`` in addition to ``how``."""
        keys = {
            "name": self.name,
            "option": self.option,
            "whole": self.whole,
            "separator": self.separator,
        }
        return {key: value for key, value in keys.items() if value}

    @property
    def per(self) -> str:
        """The unit for which the launcher starts."""
        flat = [a for each in self.command for a in ([each] if isinstance(each, str) else each)]
        if any("{file}" in argument for argument in flat):
            return "file"
        return "suite"


def template(text: str, fields: Mapping[str, str]) -> str | None:
    """The text as a template of the fields; None if more than punctuation remains besides them.

    The name is searched from the end, and the longest fields are tried first.
    """
    name = fields["name"]
    at = text.rfind(name)
    if not name or at < 0:
        return None
    before, after = text[:at], text[at + len(name) :]
    others = sorted(
        ((key, value) for key, value in fields.items() if key != "name" and value),
        key=lambda each: (-len(each[1]), each[0]),
    )
    made = []
    for text_beside in (before, after):
        piece = text_beside
        for key, value in others:
            if value in piece:
                piece = piece.replace(value, f"\0{key}\0", 1)
        plain = re.sub("\0[a-z]+\0", "", piece)
        if re.search(r"[^\W_]", plain) or "{" in plain or "}" in plain:
            return None
        made.append(re.sub("\0([a-z]+)\0", r"{\1}", piece))
    before = _OF_GROUP.sub(r"{group:\1}", made[0])
    return f"{before}{{name}}{made[1]}"


def new_arguments(all_tests: Sequence[str], one: Sequence[str]) -> list[int]:
    """The places of the arguments of ``one`` that ``all_tests`` lacks."""
    matcher = difflib.SequenceMatcher(None, list(all_tests), list(one), autojunk=False)
    return [
        position
        for tag, _, _, start, end in matcher.get_opcodes()
        if tag in ("insert", "replace")
        for position in range(start, end)
    ]


def hints(all_tests: Sequence[str], one: Sequence[str], root: Path) -> list[str]:
    """Texts in the new arguments that may be the name of a test, the longest first.

    An argument that is a file of the folder ``root`` may contain the name.
    """
    whole: list[str] = []
    parts: list[str] = []
    for position in new_arguments(all_tests, one):
        whole += listed_names(root / one[position])
        for _, value, *_ in _values(one[position]):
            whole += [] if value.startswith("-") else [value]
            parts += re.split(r"::|[#/>.:]", value)[-1:]
    texts = [*whole, *(text for text in parts if len(text) >= _SHORTEST_PART)]
    named = {text.strip() for text in texts if re.search(r"\w", text)}
    return sorted(named, key=len, reverse=True)


def listed_names(file: Path) -> list[str]:
    """The lines of a short file: names of tests, if it is a list."""
    try:
        if file.is_file():
            lines = file.read_text(encoding="utf-8").splitlines()
        else:
            lines = []
    except UnicodeDecodeError:
        return []
    if len(lines) <= _FEW_LINES:
        return lines
    return []


def guesses(
    all_tests: Sequence[str], one: Sequence[str], tests: Sequence[SourceTest], root: Path
) -> Iterator[NamesGuess]:
    """All ways in which the command may name one of the tests, the most likely first."""
    places, named = new_arguments(all_tests, one), False
    for position in places:
        listed = listed_names(root / one[position])
        if len(listed) == 1:
            for test in tests:
                made = template(listed[0], test.fields())
                if made is not None and (made != "{name}" or listed[0] == test.name):
                    command = _with_file(one, test, root, all_tests=all_tests)
                    if position - 1 in places and one[position - 1].startswith("-"):
                        command[position - 1 : position + 1] = [[one[position - 1], "{names}"]]
                    else:
                        command[position] = "{names}"
                    why = f"'{one[position]}' is a list with this test: {test.file}: {test.name}"
                    yield NamesGuess(command, "list", made, why=why, test=test)
                    named = True
                    break
        for before, value, start, end in _values(one[position]):
            for test in sorted(tests, key=lambda each: -len(each.name)):
                made = template(value, test.fields())
                if made is None or (made == "{name}" and value != test.name):
                    continue
                has_option = position - 1 in places and one[position - 1].startswith("-")
                value_of = (before, made, start, end)
                command = _with_file(one, test, root, all_tests=all_tests)
                yield _guess(
                    one, command, position, value=value_of, test=test, has_option=has_option
                )
                named = True
                break
    if not named:
        for position in reversed(places):
            path = one[position].removeprefix("./")
            others = [one[other] for other in places if other not in (0, position)]
            if (root / path).is_file() and all((root / other).is_file() for other in others):
                command = [*one[:position], "{file}", *one[position + 1 :]]
                yield NamesGuess(command, "files", why=f"'{path}' is a test file", file=path)


def _values(argument: str) -> Iterator[tuple[str, str, str, str]]:
    """The parts of an argument: an option before ``=``, a value, and the marks of a pattern."""
    match = _OPTION.fullmatch(argument)
    if match:
        held = [(match["before"], match["value"])]
    else:
        held = []
    for before, text in [*held, ("", argument)]:
        for start, end in _WRAPS:
            if text.startswith(start) and text.endswith(end) and len(text) > len(start + end):
                inner = text[len(start) : len(text) - len(end)]
                yield before, _ESCAPE.sub(r"\1", inner) if start else inner, start, end
    if "\\" in argument:
        yield "", _ESCAPE.sub(r"\1", argument), "\\", ""


def _with_file(
    one: Sequence[str], test: SourceTest, root: Path, all_tests: Sequence[str]
) -> list[str | Sequence[str]]:
    """The command with ``{file}`` for the test's file, unless it still names all other files."""
    command: list[str | Sequence[str]] = []
    others = [
        a
        for a in all_tests
        if (root / a).is_file()
        and a.removeprefix("./") != test.file
        and Path(a).suffix == Path(test.file).suffix
    ]
    names_all = bool(others) and all(other in one for other in others)
    for number, argument in enumerate(one):
        path = argument.removeprefix("./")
        is_file = number and path == test.file and (root / path).is_file()
        command.append("{file}" if is_file and not names_all else argument)
    return command


def _guess(
    one: Sequence[str],
    command: list[str | Sequence[str]],
    position: int,
    value: tuple[str, str, str, str],
    test: SourceTest,
    *,
    has_option: bool,
) -> NamesGuess:
    before, made, start, _ = value
    command[position] = f"{before}{{names}}"
    option = ""
    if not before and has_option:
        option = one[position - 1]
        command[position - 1 : position + 1] = ["{names}"]
        if start:  # one pattern for all: the option is there once, or not at all
            command[position - 1] = [option, "{names}"]
            option = ""
    why = (f"'{one[position]}' means this test: {test.file}: {test.group} {test.name}").replace(
        ":  ", ": "
    )
    if start:
        whole = "^({})$"
        if start == "\\":
            whole = "{}"
        return NamesGuess(
            command=command, how="pattern", name=made, option="", whole=whole, why=why, test=test
        )
    return NamesGuess(
        command=command, how="each", name=made, option=option, whole="", why=why, test=test
    )
