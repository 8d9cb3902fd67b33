"""The trees to compare: a TOML file for each kind, a table for each tree."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import msgspec

HERE = Path(__file__).parent


class Difference(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A known difference. ``test`` is the start of ``FILE#NAME``; ``why`` explains it to a user."""

    test: str
    why: str


class Tree(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One project. ``own`` are the arguments of the runtime's own runner.

    ``name`` is that in its index, if it differs from the table's. ``install`` are packages that its
    tests need, beside the project itself. ``folder`` is where its own runner is started.
    ``bridge`` is the folder of a bridge file, for a launcher that Wolfbane does not know. ``quick``
    trees are compared in CI.
    """

    source: Literal["pypi", "npm", "debian", "crate", "interpreter"]
    own: list[str]
    version: str = ""
    name: str = ""
    install: list[str] = msgspec.field(default_factory=lambda: ["."])
    folder: str = "."
    bridge: str = ""
    quick: bool = False
    differences: list[Difference] = []


def trees(kind: str = "", name: str = "") -> dict[str, tuple[str, Tree]]:
    """The kind and the table of each tree, by name."""
    found = {}
    for file in sorted(HERE.glob("*.toml")):
        tables = msgspec.toml.decode(file.read_bytes(), type=dict[str, Tree])
        for title, tree in tables.items():
            if kind in ("", file.stem) and name in ("", title):
                found[title] = file.stem, tree
    return found
