"""Paths and expressions that a shell can complete."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from pathlib import Path

import click

from wolfbane.formats.registry import NAMES

Complete = Callable[[click.Context, click.Parameter, str], list[str]]
_LAST_TERM = re.compile(r"(.*(?:^|[\s(]))([\w-]*:)?([^\s()]*)$", re.S)


def on_disk(*endings: str) -> Complete:
    """Folders, and files with one of the extensions (all files if there are none)."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
        return _entries(incomplete, endings)

    return complete


def _entries(incomplete: str, endings: Iterable[str]) -> list[str]:
    before, slash, start = incomplete.rpartition("/")
    if slash:
        folder = Path(f"{before}{slash}").expanduser()
    else:
        folder = Path()
    entries = []
    if folder.is_dir():
        for entry in sorted(folder.iterdir()):
            hidden = entry.name.startswith(".") and not start.startswith(".")
            if not entry.name.startswith(start) or hidden:
                continue
            if entry.is_dir():
                entries.append(f"{before}{slash}{entry.name}/")
            elif not endings or entry.name.endswith(tuple(endings)):
                entries.append(f"{before}{slash}{entry.name}")
    return entries


def reports(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """``FORMAT=``, then a path."""
    name, equals, path = incomplete.partition("=")
    if equals:
        return [f"{name}={word}" for word in _entries(path, ())]
    return [f"{each}=" for each in NAMES if each.startswith(name)]


def expression(
    fields: Iterable[str],
    values: Callable[[click.Context, str, str], list[str]],
    incomplete: str,
    ctx: click.Context,
) -> list[str]:
    """An expression with its last term completed: the name of a field, then one of its values."""
    match = _LAST_TERM.match(incomplete)
    assert match is not None  # it matches every text
    before, field, start = match[1], match[2] or "", match[3]
    if not field:
        return [f"{before}{name}:" for name in fields if name.startswith(start)]
    items = values(ctx, field[:-1], start)
    return [f"{before}{field}{word}" for word in items if not re.search(r"[\s()'\"]", word)]
