"""Checks a TOML table against its Struct, and reports all faults at once."""

from __future__ import annotations

import types
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from typing import Any, Literal, NamedTuple, TypeVar, Union, get_args, get_origin

import msgspec

from wolfbane.basis.toml_lines import Location, line_of
from wolfbane.errors import Problem, did_you_mean, nearest

S = TypeVar("S", bound=msgspec.Struct)

_WORDS = {
    str: "text",
    bool: "true or false",
    int: "a whole number",
    float: "a number",
    list: "a list",
    dict: "a table",
}


class SettingsTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The allowed content of a table: each field is a key with its type and default."""


class Fault(NamedTuple):
    """One error in a table.

    ``location`` is its path from the top of the file; ``keys`` is the same without numbers and
    names from the user. ``expected`` are the allowed words, or the kind of value.
    """

    reason: Literal["unknown key", "missing", "unknown word", "wrong type"]
    location: Location
    keys: tuple[str, ...]
    value: Any
    expected: Sequence[str]

    def problem(self, file: str, lines: Mapping[Location, int]) -> Problem:
        """The error as text, with its line and the nearest valid word."""
        line, key, path = line_of(lines, self.location), str(self.location[-1]), ".".join(self.keys)
        if self.reason == "missing":
            return Problem(f"'{path}' is missing", file, line)
        if self.reason == "wrong type":
            message = f"'{path}' is {self._given()}: it must be {' or '.join(self.expected)}"
            return Problem(message, file, line)
        if self.reason == "unknown key":
            word = key
        else:
            word = f"{self.value}"
        what = "key"
        if self.reason != "unknown key":
            what = key
        return Problem(
            message=f"unknown {what} '{word}'",
            file=file,
            line=line,
            hint=did_you_mean(word, self.expected),
        )

    def _given(self) -> str:
        """The value as written in its file; for a list or a table, which may be long, its kind."""
        if isinstance(self.value, list | dict):
            return _WORDS[type(self.value)]
        if isinstance(self.value, bool):
            return str(self.value).lower()
        return repr(self.value)


def read_table(model: type[S], table: Mapping[str, Any]) -> S:
    """The table as a Struct. Raises msgspec.ValidationError if :func:`faults` finds errors."""
    return msgspec.convert(table, model)


def keys_of(model: type[msgspec.Struct]) -> tuple[str, ...]:
    """The keys that a table may have."""
    return model.__struct_fields__


def faults(
    expected: Any, value: Any, location: Location = (), keys: tuple[str, ...] = ()
) -> Iterator[Fault]:
    """All errors in a value of an expected type: a Struct, or another type."""
    part = _part_for(expected, value)
    origin = get_origin(part) or part
    if isinstance(value, dict) and isinstance(part, type) and issubclass(part, msgspec.Struct):
        yield from _faults_of_table(part, value, location, keys=keys)
    elif isinstance(value, dict) and origin is dict and get_args(part):
        for name, each in value.items():
            yield from faults(get_args(part)[1], each, (*location, name), keys=keys)
    elif isinstance(value, list) and origin is list:
        for index, each in enumerate(value):
            yield from faults(get_args(part)[0], each, (*location, index), keys=keys)
    elif not _is_one_of(expected, value):
        literals = [part for part in _parts(expected) if get_origin(part) is Literal]
        names = [word for literal in literals for word in get_args(literal)]
        if names and isinstance(value, str):
            yield Fault(
                reason="unknown word", location=location, keys=keys, value=value, expected=names
            )
        else:
            yield Fault(
                reason="wrong type",
                location=location,
                keys=keys,
                value=value,
                expected=_described(expected),
            )


def _faults_of_table(
    model: type[msgspec.Struct], table: Mapping[str, Any], location: Location, keys: tuple[str, ...]
) -> Iterator[Fault]:
    known = keys_of(model)
    unknown = [key for key in table if key not in known]
    # A key that was misspelled is not missing as well.
    meant = {nearest(key, known) for key in unknown}
    for key in unknown:
        yield Fault(
            reason="unknown key",
            location=(*location, key),
            keys=(*keys, key),
            value=table[key],
            expected=known,
        )
    for field in _fields(model):
        if field.name in table:
            yield from faults(
                field.type, table[field.name], (*location, field.name), keys=(*keys, field.name)
            )
        elif field.required and field.name not in meant:
            yield Fault(
                reason="missing",
                location=(*location, field.name),
                keys=(*keys, field.name),
                value=None,
                expected=(),
            )


@cache
def _fields(model: type[msgspec.Struct]) -> tuple[msgspec.structs.FieldInfo, ...]:
    """The fields of a table: computing their types takes longer than checking it."""
    return msgspec.structs.fields(model)


def _parts(expected: Any) -> tuple[Any, ...]:
    """The members of a union; any other type alone."""
    if get_origin(expected) in (Union, types.UnionType):
        return get_args(expected)
    return (expected,)


def _part_for(expected: Any, value: Any) -> Any:
    """The member of a union that matches a table or a list; otherwise, the expected kinds."""
    for part in _parts(expected):
        origin = get_origin(part) or part
        is_table = isinstance(origin, type) and issubclass(origin, (dict, msgspec.Struct))
        if (isinstance(value, list) and origin is list) or (isinstance(value, dict) and is_table):
            return part
    return expected


def _is_one_of(expected: Any, value: Any) -> bool:
    try:
        msgspec.convert(value, expected)
    except msgspec.ValidationError:
        return False
    return True


def _described(expected: Any) -> list[str]:
    """The kinds of values of a type, as text."""
    origins = [get_origin(part) or part for part in _parts(expected)]
    names = {
        _WORDS.get(origin, "a table"): None
        for origin in origins
        if origin not in (type(None), Literal) and not (origin is int and float in origins)
    }
    return list(names) or ["text"]
