"""Values of options, as they are typed."""

from __future__ import annotations

from typing import Any

import click
from click.core import ParameterSource

from wolfbane.units import seconds


class FilledPath(click.Path):
    """A path that is not empty: an empty variable of a script means no folder."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if value == "":
            self.fail("it is empty", param, ctx)
        return super().convert(value, param, ctx)


def filled(ctx: click.Context, param: click.Parameter, value: str) -> str:
    """A click callback that refuses an empty value: an empty variable of a script, it seems."""
    source = ctx.get_parameter_source(param.name or "")
    if source is ParameterSource.COMMANDLINE and not value.strip():
        raise click.BadParameter("it is empty")
    return value


def duration(ctx: click.Context, param: click.Parameter, value: str | None) -> float | None:
    """A click callback that reads a time, such as 30s or 12h, into seconds."""
    if value is None:
        return None
    try:
        return seconds(value)
    except ValueError as error:
        raise click.BadParameter(str(error)) from None
