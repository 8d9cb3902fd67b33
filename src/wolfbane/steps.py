"""The functions for writing scenario steps.

    from wolfbane.steps import given, when, then

    @given("a boat of {length} metres")
    def boat(shared, length: float):
        shared.boat = Boat(length)

The annotation of a placeholder's parameter defines its type: ``int``, ``float``, ``bool``, an
enumeration, a type registered with ``hole``, or text: one word, or several in quotes. A compiled
regular expression can replace the text; its named groups are the placeholders.

Words in square brackets are optional, ``a [big ]boat``; bars separate alternatives, ``it [is|was]
moored``.

A step may also have the parameters ``shared`` (shared data of one scenario's steps), ``table`` (the
rows below the step), ``text`` (the text below it), and ``scenario`` (its name and tags).

``attach`` stores a picture, a text or a file with the step that calls it.

Suites do not need Wolfbane installed: the worker provides this module. Standard library only,
Python 3.8 or later.
"""

from __future__ import annotations

import os
import re
import unittest
from typing import Any, Callable, Dict, List, NoReturn, Optional, Tuple, Union

__all__ = ["Table", "after", "attach", "before", "given", "hole", "skip", "step", "then", "when"]

Pattern = Union[str, "re.Pattern[str]"]
_Function = Callable[..., Any]
_WHEN = ("scenario", "feature", "run")


class Registry:
    """All declared steps, hooks and types, in order."""

    def __init__(self) -> None:
        self.steps: List[Tuple[str, Pattern, _Function]] = []
        self.hooks: List[Tuple[str, str, str, _Function]] = []
        self.types: Dict[Any, Tuple[str, Callable[[str], Any]]] = {}
        self.keep: Optional[Callable[[str, str, Union[str, bytes]], None]] = None


registry = Registry()


def _declares(kind: str, pattern: Pattern) -> Callable[[_Function], _Function]:
    def declare(function: _Function) -> _Function:
        registry.steps.append((kind, pattern, function))
        return function

    return declare


def given(pattern: Pattern) -> Callable[[_Function], _Function]:
    """A step that describes the initial situation."""
    return _declares("given", pattern)


def when(pattern: Pattern) -> Callable[[_Function], _Function]:
    """A step with an action."""
    return _declares("when", pattern)


def then(pattern: Pattern) -> Callable[[_Function], _Function]:
    """A step that checks the result."""
    return _declares("then", pattern)


def step(pattern: Pattern) -> Callable[[_Function], _Function]:
    """A step for any position."""
    return _declares("", pattern)


def before(what: str, tag: str = "") -> Callable[[_Function], _Function]:
    """A hook that runs before each ``scenario``, each ``feature``, or the ``run``."""
    return _hooks("before", what, tag)


def after(what: str, tag: str = "") -> Callable[[_Function], _Function]:
    """A hook that runs after each ``scenario``, each ``feature``, or the ``run``, whatever
    happened.
    """
    return _hooks("after", what, tag)


def _hooks(side: str, what: str, tag: str) -> Callable[[_Function], _Function]:
    if what not in _WHEN:
        raise ValueError(f"{side}({what!r}): use one of {', '.join(_WHEN)}")

    def declare(function: _Function) -> _Function:
        registry.hooks.append((side, what, tag.lstrip("@"), function))
        return function

    return declare


def hole(kind: Any, pattern: str, convert: Optional[Callable[[str], Any]] = None) -> None:
    """Define the text that matches a placeholder of type ``kind``, and its conversion."""
    registry.types[kind] = (pattern, convert or kind)


def skip(reason: str) -> NoReturn:
    """End the scenario here. Its outcome is skipped."""
    raise unittest.SkipTest(reason)


LARGEST = 10 << 20
"""Maximum number of bytes of one attachment."""
_BEGINNINGS = {
    b"\x89PNG": "png",
    b"\xff\xd8\xff": "jpg",
    b"GIF8": "gif",
    b"%PDF": "pdf",
    b"PK\x03\x04": "zip",
}


def attach(what: Union[str, bytes, "os.PathLike[str]"], name: str = "") -> None:
    """Store something with the running step: reports show it there.

    A text, the bytes of a picture or another file, or a path to one (``pathlib.Path``). The
    extension of ``name`` defines the type; without one, the first bytes do. Raises OSError if a
    file cannot be read, ValueError if it is larger than 10 MiB.
    """
    if registry.keep is None:
        raise RuntimeError("attach() can be called only in steps and hooks of a running scenario")
    content: Union[str, bytes]
    if isinstance(what, (str, bytes)):
        content = what
    else:
        with open(what, "rb") as file:
            content = file.read(LARGEST + 1)
        name = name or os.path.basename(os.fspath(what))
    if len(content) > LARGEST:
        raise ValueError(
            f"{name or 'the attachment'} is larger than {LARGEST >> 20} MiB and cannot be attached"
        )
    ending = os.path.splitext(name)[1].lower().lstrip(".")
    if isinstance(content, str):
        ending = ending or "txt"
    else:
        seen = (kind for start, kind in _BEGINNINGS.items() if content.startswith(start))
        ending = ending or next(seen, "bin")
    registry.keep(name, re.sub("[^a-z0-9]", "", ending) or "bin", content)


class Table:
    """The table rows below a step.

    If the first row contains column names, use ``columns`` and ``records``.
    """

    def __init__(self, rows: List[List[str]]) -> None:
        self.rows = rows

    def __iter__(self) -> Any:
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)

    @property
    def columns(self) -> List[str]:
        """The cells of the first row."""
        if self.rows:
            return self.rows[0]
        return []

    def __getattr__(self, name: str) -> NoReturn:
        hint = ""
        if name == "headings":
            hint = "; this attribute is now called 'columns'"
        raise AttributeError(f"a table has no '{name}'{hint}")

    @property
    def records(self) -> List[Dict[str, str]]:
        """Every row except the first, each as a dictionary by the columns."""
        return [dict(zip(self.columns, row)) for row in self.rows[1:]]
