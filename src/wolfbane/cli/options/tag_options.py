"""Makes every tag key in use an option: ``--owner quay`` means ``--pick owner:quay``."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from pathlib import Path

import click

from wolfbane.errors import did_you_mean

_PICK, _WORKSPACE = "--pick", ("-w", "--workspace")


def tag_options(command: click.Command, ctx: click.Context, arguments: Sequence[str]) -> list[str]:
    """The arguments with tag keys as ``--pick``. Raises UsageError for unknown options.

    Several values of one key are alternatives, as for every field. The tests are read only if an
    option is unknown.
    """
    known = {name for option in command.params for name in option.opts}
    if _PICK not in known:
        return list(arguments)
    kept: list[str] = []
    tags: dict[str, list[str]] = {}
    waiting = list(arguments)
    while waiting:
        token = waiting.pop(0)
        if token == "--":
            return [*kept, *_picks(tags), token, *waiting]
        name, equals, value = token.partition("=")
        if not name.startswith("--") or name in known or name == "--help":
            kept.append(token)
            if not equals and _takes_value(command, token) and waiting:
                kept.append(waiting.pop(0))
            continue
        keys = _keys_in_use(arguments)
        if name[2:] not in keys:
            hint = did_you_mean(name, {*known, *(f"--{key}" for key in keys)} - {"-h"})
            close = ""
            if hint.startswith("did you mean"):
                close = hint
            ctx.fail(f"there is no option '{name}'; {close}".removesuffix("; "))
        if not equals:
            if not waiting:
                ctx.fail(f"Option '{name}' requires an argument.")
            value = waiting.pop(0)
        tags.setdefault(name[2:], []).append(value)
    return [*kept, *_picks(tags)]


def _picks(tags: dict[str, list[str]]) -> list[str]:
    from wolfbane.selection import field_terms

    return [word for key, values in tags.items() for word in (_PICK, str(field_terms(key, values)))]


def _takes_value(command: click.Command, name: str) -> bool:
    option = next((each for each in command.params if name in each.opts), None)
    return isinstance(option, click.Option) and not option.is_flag and not option.count


def _keys_in_use(arguments: Sequence[str]) -> set[str]:
    from wolfbane.cli.options.workspace_option import workspace_at
    from wolfbane.inventory import open_inventory

    pairs = itertools.pairwise(arguments)
    inside = [word.partition("=")[2] for word in arguments if word.startswith("--workspace=")]
    given = next((after for word, after in pairs if word in _WORKSPACE), "") or "".join(inside[:1])
    workspace = workspace_at(Path(given) if given else None)
    return {tag.key for test in open_inventory(workspace).tests for tag in test.tags if tag.key}
