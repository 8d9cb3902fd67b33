"""What ``[suite.http]`` says, checked against environments and descriptions before a run."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Iterator
from dataclasses import asdict
from pathlib import Path

from wolfbane.environments import Environment
from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.inventory.scan import Inventory
from wolfbane.workspace.checks import wrong_limits
from wolfbane.workspace.locate import line_index, line_of
from wolfbane.workspace.settings import Http, Suite
from wolfbane.workspace.vocabulary import SETTINGS_NAME


def check_http(
    inventory: Inventory, suites: Iterable[Suite], environments: Iterable[Environment]
) -> None:
    """Raises InputError for limits that are none once their parameters are filled in, and for
    security schemes that no description of their suite defines.

    Without this a misspelled scheme sends every request without what lets it in.
    """
    problems: list[Problem] = []
    for suite in suites:
        for environment in environments if suite.kind == "workflow" else ():
            http = Http(**environment.filled(asdict(suite.http)))
            for key, words in wrong_limits(http):
                problems.append(_problem(inventory.workspace.root, suite, (key,), words))
        for name, hint in _unknown_schemes(inventory, suite):
            words = f"no description defines the security scheme '{name}'"
            place = ("security", name)
            problems.append(_problem(inventory.workspace.root, suite, place, words, hint))
    if problems:
        raise InputError(*dict.fromkeys(problems))


def _unknown_schemes(inventory: Inventory, suite: Suite) -> Iterator[tuple[str, str]]:
    """Names that a suite gives values for and no description has, each with a hint."""
    known = _schemes(inventory, suite) if suite.http.security else None
    if known is not None:
        for name in suite.http.security:
            if name not in known:
                yield name, did_you_mean(name, known)


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


def _problem(
    root: Path, suite: Suite, place: tuple[str, ...], words: str, hint: str = ""
) -> Problem:
    folder, _, own = suite.name.rpartition("/")
    path = root / folder / SETTINGS_NAME
    text = path.read_text(encoding="utf-8")
    names = [table.get("name") for table in tomllib.loads(text).get("suite", [])]
    line = line_of(line_index(text), ("suite", names.index(own), "http", *place))
    file = path.relative_to(root).as_posix()
    return Problem(f"suite '{suite.name}': {words}", file, line, hint)
