"""Converts a step pattern with placeholders to a regular expression.

A pattern is plain words. ``{name}`` is a placeholder, ``"{name}"`` a placeholder whose value is in
quotes. ``[big ]`` is optional; ``[is|are]`` means one of the two, and ``[a|the|]`` one or none. A
backslash makes the next character literal.

Standard library only, Python 3.8 or later: this runs in a suite's own interpreter.
"""

from __future__ import annotations

import re
from typing import Any, Callable, Dict, Iterator, List, NamedTuple, Tuple, Union

_PIECE = re.compile(
    r"""\\(?P<escaped>.) | (?P<quote>["'])\{(?P<quoted>\w+)\}(?P=quote) | \{(?P<hole>\w+)\} |
        (?P<mark>[\[\]|]) | (?P<text>[^\\\[\]|{"']+|.)""",
    re.VERBOSE | re.DOTALL,
)
_QUOTED = r'"(?:[^"\\]|\\.)*"|' r"'(?:[^'\\]|\\.)*'"
_ESCAPED = re.compile(r"\\([\"'\\])")
_ENOUGH = 2
"""Number of common words with a pattern below which a step is probably unrelated."""


class HoleKind(NamedTuple):
    """The type of a placeholder.

    ``misfit`` is the end of the message for a value of the wrong type.

    ``plain``: the expression is Wolfbane's own, so the value may also be in quotes.
    """

    regex: str
    convert: Callable[[str], Any]
    misfit: str
    plain: bool = True


TEXT = HoleKind(r"\S+", str, "is more than one word; put it in quotes")


class PatternError(ValueError):
    """A pattern that cannot be parsed. The text gives the reason."""


class _Hole(NamedTuple):
    name: str
    quoted: bool


class _Choice(NamedTuple):
    alternatives: List[List[Any]]


_Node = Union[str, _Hole, _Choice]


class Pattern:
    """A compiled pattern. ``kinds`` are the kinds of its placeholders, by name.

    ``optional`` are the placeholders that a step may omit. Raises PatternError.
    """

    def __init__(self, text: str, kind_of: Callable[[str], HoleKind]) -> None:
        self.text = text
        self._nodes = _parse(text)
        self.kinds: Dict[str, HoleKind] = {}
        self.optional = set()
        for hole, optional in _holes(self._nodes):
            if hole.name in self.kinds:
                raise PatternError(f"the placeholder '{hole.name}' appears twice in '{text}'")
            self.kinds[hole.name] = kind_of(hole.name)
            if optional:
                self.optional.add(hole.name)
        self.regex = re.compile(_expression(self._nodes, self._strict))
        self._loose: Any = None

    def _strict(self, hole: _Hole) -> str:
        kind = self.kinds[hole.name]
        if kind.regex == TEXT.regex:
            if hole.quoted:
                return _QUOTED
            return f"{_QUOTED}|{kind.regex}"
        if not kind.plain:
            if hole.quoted:
                return f"[\"']{kind.regex}[\"']"
            return kind.regex
        in_quotes = f"\"(?:{kind.regex})\"|'(?:{kind.regex})'"
        if hole.quoted:
            return in_quotes
        return f"{kind.regex}|{in_quotes}"

    def values(self, match: Any) -> Dict[str, Any]:
        """The values of the placeholders in a text. A conversion may raise any exception."""
        given = {name: match[name] for name in self.kinds if match[name] is not None}
        return {
            name: self.kinds[name].convert(unquoted(t) if self.kinds[name].plain else t)
            for name, t in given.items()
        }

    def misfits(self, text: str) -> List[str]:
        """The errors in the values of a text that matches this pattern; otherwise empty."""
        if not self.kinds:
            return []
        if self._loose is None:
            count = sum(len(re.findall(r"\w\w+", n)) for n in self._nodes if isinstance(n, str))
            anything = ".+?" if count >= _ENOUGH else rf"{_QUOTED}|\S+"
            self._loose = re.compile(_expression(self._nodes, lambda _: anything), re.DOTALL)
        match = self._loose.fullmatch(text)
        if match:
            values = match.groupdict()
        else:
            values = {}
        return [
            f"'{unquoted(value)}' {self.kinds[name].misfit} ({{{name}}})"
            for name, value in values.items()
            if value is not None and not self._fits(name, value)
        ]

    def _fits(self, name: str, value: str) -> bool:
        kind = self.kinds[name]
        if kind.regex == TEXT.regex:
            return bool(re.fullmatch(f"{_QUOTED}|{kind.regex}", value))
        return bool(re.fullmatch(kind.regex, unquoted(value)))


def _parse(text: str) -> List[_Node]:
    pieces = list(_PIECE.finditer(text))
    nodes, end = _sequence(text, pieces, 0, inside=False)
    if end < len(pieces):
        raise PatternError(f"a ']' without a '[' before it in '{text}'; write '\\]'")
    return nodes


def _sequence(text: str, pieces: List[Any], at: int, *, inside: bool) -> Tuple[List[_Node], int]:
    """The nodes up to the closing bracket or bar, or to the end, and the position after them."""
    nodes: List[_Node] = []
    while at < len(pieces):
        piece = pieces[at]
        mark, name = piece["mark"], piece["hole"] or piece["quoted"]
        if mark == "]" or (mark == "|" and inside):
            break
        at += 1
        if mark == "[":
            choice, at = _choice(text, pieces, at)
            nodes.append(choice)
        elif name:
            nodes.append(_Hole(name, bool(piece["quoted"])))
        else:
            nodes.append(piece["escaped"] or mark or piece["text"])
    return nodes, at


def _choice(text: str, pieces: List[Any], at: int) -> Tuple[_Choice, int]:
    first, at = _sequence(text, pieces, at, inside=True)
    alternatives = [first]
    while at < len(pieces) and pieces[at]["mark"] == "|":
        nodes, at = _sequence(text, pieces, at + 1, inside=True)
        alternatives.append(nodes)
    if at == len(pieces):
        raise PatternError(f"a '[' without a ']' after it in '{text}'; write '\\['")
    return _Choice(alternatives if len(alternatives) > 1 else [first, []]), at + 1


def _holes(nodes: List[_Node], *, optional: bool = False) -> Iterator[Tuple[_Hole, bool]]:
    for node in nodes:
        if isinstance(node, _Hole):
            yield node, optional
        elif isinstance(node, _Choice):
            for alternative in node.alternatives:
                yield from _holes(alternative, optional=True)


def _expression(nodes: List[_Node], regex_of: Callable[[_Hole], str]) -> str:
    parts = []
    for node in nodes:
        if isinstance(node, _Hole):
            parts.append(f"(?P<{node.name}>{regex_of(node)})")
        elif isinstance(node, _Choice):
            parts.append(f"(?:{'|'.join(_expression(a, regex_of) for a in node.alternatives)})")
        else:
            parts.append(re.escape(node))
    return "".join(parts)


def unquoted(text: str) -> str:
    """A value without its quotes, and without the backslashes before inner quotes."""
    if len(text) > 1 and text[0] == text[-1] and text[0] in "\"'":
        return _ESCAPED.sub(r"\1", text[1:-1])
    return text
