"""The security schemes that ``[suite.http]`` gives values for: a description has to define them."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from pathlib import Path

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.inventory.scan import Inventory
from wolfbane.workspace.locate import line_index, line_of
from wolfbane.workspace.settings import Suite
from wolfbane.workspace.vocabulary import SETTINGS_NAME


def check_security(inventory: Inventory, suites: Iterable[Suite]) -> None:
    """Raises InputError for names that no description of their suite has.

    Without this a misspelled name sends every request of the suite without what lets it in.
    """
    problems: list[Problem] = []
    for suite in suites:
        if suite.http.security:
            known = _schemes(inventory, suite)
            problems += [
                _problem(inventory.workspace.root, suite, name, known)
                for name in suite.http.security
                if known is not None and name not in known
            ]
    if problems:
        raise InputError(*problems)


def _schemes(inventory: Inventory, suite: Suite) -> set[str] | None:
    """The schemes of all descriptions of a suite; None where one of them cannot be read."""
    from wolfbane.formats.documents import DocumentError  # it takes a while to load
    from wolfbane.formats.library import Library, Unknown

    found: set[str] = set()
    for file in inventory.files.values():
        if file.suite == suite.name:
            try:
                library = Library(inventory.workspace.root, file.path, copies=suite.http.copies)
                for description in library.descriptions:
                    found.update(description.security_schemes)
            except (DocumentError, Unknown, OSError):
                return None  # that is reported with its file
    return found


def _problem(root: Path, suite: Suite, name: str, known: set[str]) -> Problem:
    folder, _, own = suite.name.rpartition("/")
    path = root / folder / SETTINGS_NAME
    text = path.read_text(encoding="utf-8")
    names = [table.get("name") for table in tomllib.loads(text).get("suite", [])]
    place = ("suite", names.index(own), "http", "security", name)
    words = f"suite '{suite.name}': no description defines the security scheme '{name}'"
    file, line = path.relative_to(root).as_posix(), line_of(line_index(text), place)
    return Problem(words, file, line, did_you_mean(name, known))
