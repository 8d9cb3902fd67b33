"""Converts a written value to the type of its parameter, and to text for the suites."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from pathlib import Path
from urllib.parse import urlsplit

from wolfbane.basis.units import seconds
from wolfbane.errors import did_you_mean
from wolfbane.workspace.settings import Parameter

Typed = str | int | float | bool | list[str]
_INTEGER = re.compile(r"[-+]?\d+")
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
_YES = {"yes": True, "true": True, "on": True, "no": False, "false": False, "off": False}


def convert(parameter: Parameter, raw: object, root: Path) -> Typed:
    """The value that ``raw`` means. Raises ValueError with text for the end of a sentence.

    Text is converted to the parameter's type, because command lines and variable files contain only
    text. Other TOML and JSON values must already have this type.
    """
    return _CONVERTERS[parameter.type](parameter, raw, root)


def as_text(value: Typed) -> str:
    """A value in the form of an environment variable: ``true``, ``1.5``, ``a,b``."""
    if isinstance(value, bool):
        if value:
            return "true"
        return "false"
    if isinstance(value, float):
        return f"{value:.15g}"
    if isinstance(value, list):
        return ",".join(value)
    return str(value)


def _text(parameter: Parameter, raw: object, root: Path) -> str:
    if not isinstance(raw, str):
        raise ValueError(f"is {raw!r}, not a text")
    return raw


def _integer(parameter: Parameter, raw: object, root: Path) -> int:
    if isinstance(raw, int) and not isinstance(raw, bool):
        return raw
    if isinstance(raw, str) and _INTEGER.fullmatch(raw.strip()):
        return int(raw)
    raise ValueError(f"is {raw!r}, not a whole number")


def _number(parameter: Parameter, raw: object, root: Path) -> float:
    if isinstance(raw, int | float) and not isinstance(raw, bool):
        return float(raw)
    if isinstance(raw, str) and _NUMBER.fullmatch(raw.strip()):
        return float(raw)
    raise ValueError(f"is {raw!r}, not a number")


def _boolean(parameter: Parameter, raw: object, root: Path) -> bool:
    if isinstance(raw, bool):
        return raw
    if isinstance(raw, str) and raw.strip().lower() in _YES:
        return _YES[raw.strip().lower()]
    raise ValueError(f"is {raw!r}, not yes or no")


def _duration(parameter: Parameter, raw: object, root: Path) -> float:
    try:
        return seconds(raw)
    except ValueError:
        raise ValueError(f"is {raw!r}, not a duration such as 250ms, 30s, 5m or 1h") from None


def _url(parameter: Parameter, raw: object, root: Path) -> str:
    text = _text(parameter, raw, root)
    try:
        parts = urlsplit(text)
    except ValueError as error:
        raise ValueError(f"is {text!r}, not an address: {error}") from None
    if not (parts.scheme and parts.netloc):
        raise ValueError(f"is {text!r}, not a complete address such as http://127.0.0.1:8000")
    return text


def _path(parameter: Parameter, raw: object, root: Path) -> str:
    return str(root / Path(_text(parameter, raw, root)).expanduser())


def _choice(parameter: Parameter, raw: object, root: Path) -> str:
    text = _text(parameter, raw, root)
    if text not in parameter.choices:
        raise ValueError(f"is {text!r}; {did_you_mean(text, parameter.choices)}")
    return text


def _list(parameter: Parameter, raw: object, root: Path) -> list[str]:
    if isinstance(raw, str):
        return [item.strip() for item in raw.split(",") if item.strip()]
    if isinstance(raw, list) and all(isinstance(item, str) for item in raw):
        return list(raw)
    raise ValueError(f"is {raw!r}, not a list of texts")


_CONVERTERS: Mapping[str, Callable[[Parameter, object, Path], Typed]] = {
    "text": _text,
    "integer": _integer,
    "number": _number,
    "boolean": _boolean,
    "duration": _duration,
    "url": _url,
    "path": _path,
    "choice": _choice,
    "list": _list,
}
