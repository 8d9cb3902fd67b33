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
    A ``mixed`` tree has a folder for each of the trees that ``own`` names.
    ``bridge`` is the folder of a bridge file, for a launcher that Wolfbane does not know. ``quick``
    trees are compared in CI.
    """

    source: Literal["pypi", "npm", "debian", "crate", "interpreter", "mixed"]
    own: list[str]
    version: str = ""
    name: str = ""
    install: list[str] = msgspec.field(default_factory=lambda: ["."])
    folder: str = "."
    bridge: str = ""
    quick: bool = False
    differences: list[Difference] = []


KINDS = {"interpreter": "python", "tcl": "bridge"}
"""The kind of suites in a table that is not named after a kind."""


def trees(table: str = "", name: str = "") -> dict[str, tuple[str, Tree]]:
    """The kind and the entry of each tree, by name; of one table if it is given."""
    result = {}
    for file in sorted(HERE.glob("*.toml")):
        tables = msgspec.toml.decode(file.read_bytes(), type=dict[str, Tree])
        for title, tree in tables.items():
            if table in ("", file.stem) and name in ("", title):
                result[title] = KINDS.get(file.stem, file.stem), tree
    return result


def parts_of(mixed: Tree) -> dict[str, tuple[str, Tree]]:
    """The kind and the entry of each part of a mixed tree, by name."""
    known = trees()
    return {name: known[name] for name in mixed.own}


def known_differences(tree: Tree) -> list[Difference]:
    """The known differences of a tree, and those of its parts."""
    if tree.source != "mixed":
        return tree.differences
    return [
        Difference(f"{title}/{known.test}", known.why)
        for title, (_, part) in parts_of(tree).items()
        for known in part.differences
    ]
