"""Reads the values of options."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click
from click.core import ParameterSource

from wolfbane.basis.units import seconds
from wolfbane.errors import did_you_mean


class FilledPath(click.Path):
    """A path that must not be empty, because an empty value usually comes from an empty script
    variable.
    """

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Reject a value that Click would accept."""
        if value == "":
            self.fail("the value is empty", param, ctx)
        return super().convert(value, param, ctx)


def filled(ctx: click.Context, param: click.Parameter, value: str) -> str:
    """A click callback that rejects an empty value, which usually comes from an empty script
    variable.
    """
    source = ctx.get_parameter_source(param.name or "")
    if source is ParameterSource.COMMANDLINE and not value.strip():
        raise click.BadParameter("the value is empty")
    return value


def reading(
    read: Callable[[str], Any],
) -> Callable[[click.Context, click.Parameter, str | None], Any]:
    """A click callback that converts the typed text to a value.

    The text of a ValueError is the message.
    """

    def callback(ctx: click.Context, param: click.Parameter, value: str | None) -> Any:
        try:
            if value is None:
                return None
            return read(value)
        except ValueError as error:
            raise click.BadParameter(str(error)) from None

    return callback


def age(ctx: click.Context, param: click.Parameter, value: str | None) -> float | None:
    """A click callback that converts a time with a unit, such as 30d, to seconds."""
    return _time(value, needs_unit=True)


def duration(ctx: click.Context, param: click.Parameter, value: str | None) -> float | None:
    """A click callback that converts a time, such as 30s or 12h, to seconds."""
    return _time(value, needs_unit=False)


def _time(value: str | None, *, needs_unit: bool) -> float | None:
    if value is None:
        return None
    try:
        return seconds(value, needs_unit=needs_unit)
    except ValueError as error:
        raise click.BadParameter(str(error)) from None


class ExistingFile(click.Path):
    """The path of an existing file.

    If there is no such file, the error suggests the closest name.
    """

    def __init__(self) -> None:
        super().__init__(path_type=Path, dir_okay=False)

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Reject a value that Click would accept."""
        path = Path(str(super().convert(value, param, ctx)))
        if not path.exists():
            beside = path.parent.iterdir() if path.parent.is_dir() else ()
            hint = did_you_mean(path.name, [each.name for each in beside])
            self.fail(f"there is no file '{value}'; {hint}".removesuffix("; "), param, ctx)
        return path
