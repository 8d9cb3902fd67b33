"""Splits a command line into pieces, so that presets can be inserted before it is parsed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import click

from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.tag_options import tag_options
from wolfbane.cli.options.workspace_option import workspace_at
from wolfbane.errors import InputError, Problem

PRESET, WORKSPACE = "--preset", "--workspace"
AT, SETTINGS = "--at", "--settings"
PASS_ON, OPTIONS_FOR = "--pass-on", "--options-for"
ENV, SET, SPREAD = "--env", "--set", "--spread"
CONTRADICTIONS = (
    ("--rebuild", "--no-build"),
    ("--quiet", "--verbose"),
    ("--refresh", "--offline"),
)
EXPANDED = "wolfbane.expanded"
_POINTING = (WORKSPACE, AT, SETTINGS, PASS_ON)


class Piece(NamedTuple):
    """An option with its value, or a plain argument (``option`` is empty)."""

    option: str
    tokens: tuple[str, ...]

    @property
    def value(self) -> str:
        """The value of an option."""
        first, equals, rest = self.tokens[0].partition("=")
        if first.startswith("--"):
            if equals:
                return rest
            return self.tokens[-1]
        if len(self.tokens) > 1:
            return self.tokens[-1]
        return first[2:]


preset_option = click.option(
    "--preset",
    "presets",
    multiple=True,
    metavar="NAME|PATH",
    shell_complete=completion_sources.presets,
    help="Use saved arguments, by name or from a file. Other arguments are added to them.",
)
"""``--preset``, for a command of the class below."""


class PresetCommand(Command):
    """A command whose ``--preset`` inserts saved arguments before the typed ones.

    The expanded arguments are stored in the context's meta, under ``EXPANDED``.
    """

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Insert presets into the arguments before Click reads them."""
        if not ctx.resilient_parsing:
            args = after_dashes_passed_on(self, args)
            args = tag_options(self, ctx, args)
            refuse_contradictions(self, ctx, args)
            args = expanded(self, args)
            ctx.meta[EXPANDED] = list(args)
        return super().parse_args(ctx, args)


def after_dashes_passed_on(command: click.Command, arguments: Sequence[str]) -> list[str]:
    """The arguments after ``--`` as options of ``--pass-on``, if the command supports it."""
    if not any(PASS_ON in param.opts for param in command.params):
        return list(arguments)
    passed_on: list[str] = []
    waiting, options = list(arguments), _options(command)
    while waiting:
        token = waiting.pop(0)
        if token == "--":
            return [*passed_on, *(f"{PASS_ON}={word}" for word in waiting)]
        passed_on.append(token)
        if token.startswith("-") and _wants_next(token, options) and waiting:
            passed_on.append(waiting.pop(0))
    return passed_on


def refuse_contradictions(
    command: click.Command, ctx: click.Context, arguments: Sequence[str]
) -> None:
    """Reject options that exclude each other on one line.

    A typed option may override a preset's.
    """
    _, _, order = command.make_parser(ctx).parse_args(list(arguments))
    given = {name for option in order for name in option.opts}
    for one, other in CONTRADICTIONS:
        if {one, other} <= given:
            raise click.UsageError(
                f"{one} and {other} cannot be used together; use only one of them", ctx
            )


def expanded(command: click.Command, arguments: Sequence[str]) -> list[str]:
    """The arguments with those of their presets in place of ``--preset``.

    Raises InputError for a preset that does not exist or is not valid.
    """
    pieces = list(pieces_of(command, arguments))
    if any(piece.option == PRESET for piece in pieces):
        folder = next((p.value for p in reversed(pieces) if p.option == WORKSPACE), "")
        pieces = _with_presets(command, pieces, folder, above=())
    return joined(pieces)


def without(command: click.Command, arguments: Sequence[str], *options: str) -> list[str]:
    """The arguments without these options."""
    return joined([p for p in pieces_of(command, arguments) if p.option not in options])


def pointing(command: click.Command, arguments: Sequence[str]) -> list[str]:
    """The arguments that run single tests in the same environment.

    An address contains its environment and the spread values.
    """
    pieces = list(pieces_of(command, arguments))
    spread = {piece.value for piece in pieces if piece.option == SPREAD}
    several = any(piece.option == ENV and "," in piece.value for piece in pieces)
    kept = [p for p in pieces if p.option in _POINTING]
    kept += [p for p in pieces if p.option == ENV and not spread and not several]
    kept += [p for p in pieces if p.option == SET and p.value.partition("=")[0] not in spread]
    return joined(kept)


def joined(pieces: Sequence[Piece]) -> list[str]:
    """The pieces as a command line: options first."""
    options = [token for piece in pieces if piece.option for token in piece.tokens]
    plain = [piece.tokens[0] for piece in pieces if not piece.option]
    # A path that starts with a dash would be read as an option.
    return [*options, *(f"./{text}" if text.startswith("-") else text for text in plain)]


def pieces_of(command: click.Command, arguments: Sequence[str]) -> Iterator[Piece]:
    """Split a command line the way Click reads it, with the long names of options."""
    options = _options(command)
    waiting = list(arguments)
    while waiting:
        token = waiting.pop(0)
        if token == "--":
            yield from (Piece("", (text,)) for text in waiting)
            return
        if not token.startswith("-") or token == "-":
            yield Piece("", (token,))
            continue
        option, name, _ = _read_option(token, options)
        if option:
            long = next((n for n in option.opts if n.startswith("--")), name)
        else:
            long = name
        if _wants_next(token, options) and waiting:
            yield Piece(long, (token, waiting.pop(0)))
        else:
            yield Piece(long, (token,))


def _options(command: click.Command) -> dict[str, click.Option]:
    """The options of a command, by each of their names."""
    return {
        name: option
        for option in command.params
        if isinstance(option, click.Option)
        for name in (*option.opts, *option.secondary_opts)
    }


def _read_option(
    token: str, options: Mapping[str, click.Option]
) -> tuple[click.Option | None, str, bool]:
    """The option that a token names, its name, and whether the token contains its value."""
    name, inside = token.partition("=")[0], "=" in token
    if not token.startswith("--"):
        name = next((f"-{c}" for c in token[1:] if _takes(options.get(f"-{c}"))), token[:2])
        inside = not token.endswith(name[1])
    return options.get(name), name, inside


def _wants_next(token: str, options: Mapping[str, click.Option]) -> bool:
    """Whether the value of the option is the token after it."""
    option, _, inside = _read_option(token, options)
    return _takes(option) and not inside


def _takes(option: click.Option | None) -> bool:
    return option is not None and not option.is_flag and not option.count


def _with_presets(
    command: click.Command, pieces: Sequence[Piece], folder: str, above: tuple[str, ...]
) -> list[Piece]:
    from wolfbane.workspace.presets import find_preset

    workspace = workspace_at(Path(folder) if folder else None)
    inserted: list[Piece] = []
    for name in [piece.value for piece in pieces if piece.option == PRESET]:
        preset = find_preset(workspace, name)
        if name in above:
            raise InputError(
                Problem(
                    f"preset '{name}' includes itself, directly or through other presets",
                    str(preset.file),
                )
            )
        if folder:
            options = ["--workspace", folder]
        else:
            options = []
        try:
            whole = [*options, *after_dashes_passed_on(command, preset.arguments)]
            saved = tag_options(command, click.Context(command), whole)
            own = [piece for piece in pieces_of(command, saved) if piece.option != WORKSPACE]
            command.make_parser(click.Context(command)).parse_args(list(saved))
        except click.UsageError as error:
            message = f"preset '{name}': {error.format_message()}"
            raise InputError(Problem(message, str(preset.file))) from None
        inserted += _with_presets(command, own, folder, above=(*above, name))
    return [*inserted, *(piece for piece in pieces if piece.option != PRESET)]
