"""Finds the function of a step: with patterns with typed placeholders, or regular expressions."""

from __future__ import annotations

import difflib
import enum
import inspect
import os
import re
import typing
from typing import Any, Dict, List, NamedTuple, Tuple

from wolfbane.kinds.scenario.worker.step_patterns import (
    TEXT,
    HoleKind,
    Pattern,
    PatternError,
    unquoted,
)
from wolfbane.steps import Registry

SPECIAL = ("shared", "table", "text", "scenario")
KINDS = ("given", "when", "then")
_TRUE = ("yes", "true", "on")
_BOOLEAN = HoleKind(
    "yes|no|true|false|on|off",
    lambda text: text in _TRUE,
    "is not one of yes, no, true, false, on, off",
)
_INTEGER = HoleKind(r"[-+]?\d+", int, "is not a whole number")
_NUMBER = HoleKind(
    r"[-+]?(?:\d+(?:[.,]\d+)?|[.,]\d+)",
    lambda text: float(text.replace(",", ".")),
    "is not a number",
)
_VALUE = re.compile(r"\"[^\"]*\"|(?<!\S)'[^']*'(?!\w)|(?<![\w.])[-+]?\d+(?:\.\d+)?(?![\w.])")


class BadStep(Exception):
    """A step function that cannot be used; ``location`` is its file and line."""

    def __init__(self, message: str, function: Any) -> None:
        super().__init__(message)
        self.location = location_of(function)


class Definition:
    """A step function, ready to be matched and called."""

    def __init__(self, kind: str, pattern: Any, function: Any, book: StepBook) -> None:
        self.kind, self.function = kind, function
        self.parameters = inspect.signature(function).parameters
        try:
            hints = typing.get_type_hints(function)
        except Exception:  # a name that is only there for type checkers
            hints = {}
        self.pattern = None
        if isinstance(pattern, str):
            try:
                self.pattern = Pattern(pattern, lambda name: book.kind_of(hints.get(name, str)))
            except PatternError as error:
                raise BadStep(str(error), function) from None
            self.regex, self.text = self.pattern.regex, pattern
            self.kinds, optional = self.pattern.kinds, self.pattern.optional
        else:
            self.regex, self.text, optional = pattern, pattern.pattern, set()
            self.kinds = {n: book.kind_of(hints.get(n, str)) for n in pattern.groupindex}
        self._check(optional)

    def _check(self, optional: typing.Set[str]) -> None:
        """Placeholders and parameters must match. Raises BadStep."""
        given = {*self.kinds, *SPECIAL}
        for name, parameter in self.parameters.items():
            plain = parameter.kind not in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD)
            needed = plain and parameter.default is parameter.empty
            if needed and name not in given:
                message = (
                    f"parameter '{name}' is not a placeholder of "
                    f"the step and not one of {', '.join(SPECIAL)}"
                )
                raise BadStep(message, self.function)
            if needed and name in optional:
                message = (
                    f"parameter '{name}' needs a default value, because its placeholder is optional"
                )
                raise BadStep(message, self.function)
        for name in self.kinds:
            if name not in self.parameters:
                message = f"the function has no parameter for the placeholder '{name}'"
                raise BadStep(message, self.function)

    @property
    def location(self) -> str:
        """``FILE:LINE`` of the function."""
        file, line = location_of(self.function)
        return f"{os.path.relpath(file)}:{line}"

    def call(self, match: Any, special: Dict[str, Any]) -> Any:
        """Call the function with the values of its placeholders.

        A placeholder's error is the step's error.
        """
        if self.pattern is not None:
            values = self.pattern.values(match)
        else:
            values = {
                name: self.kinds[name].convert(_plain(self.kinds[name], text))
                for name, text in match.groupdict().items()
                if text is not None
            }
        values.update((name, value) for name, value in special.items() if name not in values)
        wanted = {name: values[name] for name in self.parameters if name in values}
        return self.function(**wanted)


def _plain(kind: HoleKind, text: str) -> str:
    if kind.plain:
        return unquoted(text)
    return text


class StepMatch(NamedTuple):
    """The definitions that match a step, each with its match; or suggestions."""

    matches: List[Tuple[Definition, Any]]
    misfit: str = ""
    nearest: str = ""


class StepBook:
    """All definitions of a suite. A file that is imported with two names defines its steps once."""

    def __init__(self, registry: Registry) -> None:
        self._types = registry.types
        self.hooks = _once(registry.hooks)
        self.definitions = [
            Definition(kind, pattern, function, book=self)
            for kind, pattern, function in _once(registry.steps)
        ]
        self._found: Dict[Tuple[str, str], StepMatch] = {}
        self._nearest: Dict[str, str] = {}

    def find(self, kind: str, text: str) -> StepMatch:
        """The function that a step calls."""
        key = (kind, text)
        if key not in self._found:
            matches = self._matches(kind, text)
            self._found[key] = StepMatch(matches) if matches else self._meant(kind, text)
        return self._found[key]

    def _matches(self, kind: str, text: str) -> List[Tuple[Definition, Any]]:
        matches = []
        for definition in self.definitions:
            match = None
            if definition.kind in ("", kind):
                match = definition.regex.fullmatch(text)
            if match:
                matches.append((definition, match))
        return matches

    def _meant(self, kind: str, text: str) -> StepMatch:
        """A definition whose values are invalid, or the one with the most similar words."""
        longest = sorted(self.definitions, key=lambda each: len(each.text), reverse=True)
        for definition in longest:
            if definition.pattern is None or definition.kind not in ("", kind):
                continue
            if misfit := definition.pattern.misfits(text):
                where = f'the step "{definition.text}" of {definition.location}'
                return StepMatch([], f"{'; '.join(misfit)}: {where}")
        for other in KINDS:
            if matches := self._matches(other, text):
                return StepMatch([], "", f"{matches[0][0].location} defines it for {other}")
        return StepMatch([], "", self._nearest_to(text))

    def _nearest_to(self, text: str) -> str:
        message = _VALUE.sub("{}", text)
        if message not in self._nearest:
            known = {re.sub(r"[\"']?\{\w*\}[\"']?", "{}", d.text): d for d in self.definitions}
            close = difflib.get_close_matches(message, known, 1, 0.7)
            self._nearest[message] = (
                f'the closest step is "{known[close[0]].text}", {known[close[0]].location}'
                if close
                else ""
            )
        return self._nearest[message]

    def kind_of(self, kind: Any) -> HoleKind:
        """The type of a placeholder with this annotation."""
        if kind in self._types:
            regex, convert = self._types[kind]
            name = getattr(kind, "__name__", str(kind))
            return HoleKind(regex, convert, f"is not a {name} (as {regex})", plain=False)
        if kind in (bool, int, float):
            return {bool: _BOOLEAN, int: _INTEGER, float: _NUMBER}[kind]
        if kind is str:
            return TEXT
        if isinstance(kind, type) and issubclass(kind, enum.Enum):
            members = {str(member.value): member for member in kind}
            misfit = f"is not one of {', '.join(members)}"
            members.update((member.name, member) for member in kind)
            longest = sorted(members, key=len, reverse=True)
            return HoleKind("|".join(map(re.escape, longest)), members.__getitem__, misfit)
        return HoleKind(TEXT.regex, kind, TEXT.misfit)


def _once(declared: List[Any]) -> List[Any]:
    """Declarations at one place in a source, once each."""
    unique: Dict[Any, Any] = {}
    for each in declared:
        *texts, function = each
        unique.setdefault((*texts, location_of(function), function.__qualname__), each)
    return list(unique.values())


def snippet(kind: str, text: str, below: List[str]) -> str:
    """A function for an undefined step, ready to paste.

    ``below`` are the parameters for the content below it: ``table`` or ``text``.
    """
    names: List[str] = []

    def name(match: Any) -> str:
        stem = "number"
        if match[0][0] in "\"'":
            stem = "words"
        count = sum(1 for known in names if known.startswith(stem)) + 1
        names.append(stem if count == 1 else f"{stem}{count}")
        return f"{{{names[-1]}}}"

    escaped = re.sub(r"([\\\[\]|])", r"\\\1", text)
    pattern = _VALUE.sub(name, escaped).replace("\\", "\\\\").replace('"', '\\"')
    typed = [
        "shared",
        *(f"{n}: {'str' if n.startswith('words') else 'float'}" for n in names),
        *below,
    ]
    return (
        f'@{kind}("{pattern}")\ndef {_identifier(text)}({", ".join(typed)}):\n'
        "    raise NotImplementedError\n"
    )


def location_of(function: Any) -> Tuple[str, int]:
    """The file and line of a function."""
    code = inspect.unwrap(function).__code__
    return code.co_filename, code.co_firstlineno


def _identifier(text: str) -> str:
    tokens = re.findall(r"[^\W\d_]+", _VALUE.sub("", text.lower()))
    return "_".join(tokens[:6]) or "step"
