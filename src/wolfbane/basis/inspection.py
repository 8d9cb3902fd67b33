"""Keeps commands that only look at a workspace from starting its programs."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path

_LOOKED_AT: ContextVar[Path | None] = ContextVar("looked_at", default=None)


@contextmanager
def only_looking(root: Path) -> Iterator[None]:
    """Within it, no program in this folder may start. The folder may be from a stranger."""
    token = _LOOKED_AT.set(root.resolve())
    try:
        yield
    finally:
        _LOOKED_AT.reset(token)


def may_start(program: str) -> bool:
    """Whether a program may start: always, unless it is in the folder that is only looked at."""
    root = _LOOKED_AT.get()
    if root is None:
        return True
    # A link in the folder may lead to a program outside, which then reads files beside the link.
    path = Path(program)
    places = path.parent.resolve() / path.name, path.resolve()
    return not any(folder.is_relative_to(root) for folder in places)


def neutral_folder() -> Path | None:
    """The folder in which programs start that print their version; None for the current folder.

    Some read files of the current folder that name other programs to start.
    """
    if _LOOKED_AT.get() is None:
        return None
    return Path("/")
