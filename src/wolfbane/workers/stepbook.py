"""Which function a step means: patterns with typed holes, or regular expressions."""

from __future__ import annotations

import enum
import inspect
import os
import re
import typing
from typing import Any, Callable, Dict, List, Tuple

from wolfbane.steps import Registry

SPECIAL = ("shared", "table", "text", "scenario")
_HOLE = re.compile(r"\{(\w+)\}")
_SNIPPET = re.compile(r'"[^"]*"|(?<![\w.])[-+]?\d+(?:\.\d+)?(?![\w.])')
_TRUE = ("yes", "true", "on")
_TEXT = r"\"[^\"]*\"|'[^']*'|\S+"
_NUMBER = r"[-+]?(?:\d+(?:[.,]\d+)?|[.,]\d+)"
_Convert = Callable[[str], Any]


class BadStep(Exception):
    """A step function that cannot be used; ``place`` is its file and line."""

    def __init__(self, message: str, function: Any) -> None:
        super().__init__(message)
        self.place = place_of(function)


class Definition:
    """A step function, ready to be matched and called."""

    def __init__(self, kind: str, pattern: Any, function: Any, book: StepBook) -> None:
        self.kind, self.function = kind, function
        self.parameters = inspect.signature(function).parameters
        try:
            hints = typing.get_type_hints(function)
        except Exception:  # a name that is only there for type checkers
            hints = {}
        self.converts: Dict[str, _Convert] = {}
        if isinstance(pattern, str):
            self.regex = re.compile(self._compile(pattern, hints, book))
        else:
            self.regex = pattern
            for name in pattern.groupindex:
                self.converts[name] = book.hole(hints.get(name, str))[1]
        given = {*self.converts, *SPECIAL}
        for name, parameter in self.parameters.items():
            plain = parameter.kind not in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD)
            if plain and name not in given and parameter.default is parameter.empty:
                raise BadStep(
                    f"parameter '{name}' is neither a hole nor {_among(SPECIAL)}", function
                )
        for name in self.converts:
            if name not in self.parameters:
                raise BadStep(f"the hole '{name}' is no parameter of its function", function)

    def _compile(self, pattern: str, hints: Dict[str, Any], book: StepBook) -> str:
        pieces = []
        end = 0
        for match in _HOLE.finditer(pattern):
            pieces.append(re.escape(pattern[end : match.start()]))
            regex, self.converts[match[1]] = book.hole(hints.get(match[1], str))
            pieces.append(f"(?P<{match[1]}>{regex})")
            end = match.end()
        return "".join([*pieces, re.escape(pattern[end:])])

    @property
    def place(self) -> str:
        """``FILE:LINE`` of the function."""
        file, line = place_of(self.function)
        return f"{os.path.relpath(file)}:{line}"

    def call(self, match: Any, special: Dict[str, Any]) -> Any:
        """Call the function with the values of its holes. A hole's own error is the step's."""
        values = {name: self.converts[name](text) for name, text in match.groupdict().items()
                  if text is not None}  # fmt: skip
        values.update((name, value) for name, value in special.items() if name not in values)
        wanted = {name: values[name] for name in self.parameters if name in values}
        return self.function(**wanted)


class StepBook:
    """Every definition of a suite."""

    def __init__(self, registry: Registry) -> None:
        self._types = registry.types
        self.hooks = registry.hooks
        self.definitions = [
            Definition(kind, pattern, function, self)
            for kind, pattern, function in registry.steps
        ]  # fmt: skip

    def find(self, kind: str, text: str) -> List[Tuple[Definition, Any]]:
        """The definitions that match a step, each with its match."""
        found = []
        for definition in self.definitions:
            match = definition.regex.fullmatch(text) if definition.kind in ("", kind) else None
            if match:
                found.append((definition, match))
        return found

    def hole(self, kind: Any) -> Tuple[str, _Convert]:
        """The text that a hole of a type takes, and how it becomes a value."""
        if kind in self._types:
            return self._types[kind]
        if kind is bool:
            return "yes|no|true|false|on|off", lambda text: text in _TRUE
        if kind is int:
            return r"[-+]?\d+", int
        if kind is float:
            return _NUMBER, lambda text: float(text.replace(",", "."))
        if kind is str:
            return _TEXT, _unquoted
        if isinstance(kind, type) and issubclass(kind, enum.Enum):
            members = {str(member.value): member for member in kind}
            members.update((member.name, member) for member in kind)
            longest = sorted(members, key=len, reverse=True)
            return "|".join(map(re.escape, longest)), members.__getitem__
        return _TEXT, lambda text: kind(_unquoted(text))


def snippet(kind: str, text: str, below: List[str]) -> str:
    """A function for a step that nobody defined, ready to be pasted.

    ``below`` are the parameters for what stands below it: ``table`` or ``text``.
    """
    names: List[str] = []

    def name(match: Any) -> str:
        stem = "words" if match[0].startswith('"') else "number"
        count = sum(1 for known in names if known.startswith(stem)) + 1
        names.append(stem if count == 1 else f"{stem}{count}")
        return f"{{{names[-1]}}}"

    pattern = _SNIPPET.sub(name, text).replace("\\", "\\\\").replace('"', '\\"')
    typed = [
        "shared",
        *(f"{n}: {'str' if n.startswith('words') else 'float'}" for n in names),
        *below,
    ]
    return (
        f'@{kind}("{pattern}")\ndef {_identifier(text)}({", ".join(typed)}):\n'
        '    raise NotImplementedError\n'
    )  # fmt: skip


def place_of(function: Any) -> Tuple[str, int]:
    """The file and line of a function."""
    code = inspect.unwrap(function).__code__
    return code.co_filename, code.co_firstlineno


def _identifier(text: str) -> str:
    words = re.findall(r"[^\W\d_]+", re.sub(r'"[^"]*"', "", text.lower()))
    return "_".join(words[:6]) or "step"


def _unquoted(text: str) -> str:
    quoted = len(text) > 1 and text[0] == text[-1] and text[0] in "\"'"
    return text[1:-1] if quoted else text


def _among(words: Tuple[str, ...]) -> str:
    return f"one of {', '.join(words)}"
