"""The common settings of all suites."""

from __future__ import annotations

from wolfbane.basis.toml_tables import SettingsTable


class Suite(SettingsTable, frozen=True):
    """``[[suite]]``: a named group of test files of one kind.

    Each kind has a subclass with its own keys.
    """

    name: str
    kind: str
    paths: list[str]
    exclude: list[str] = []
    folder: str = "."
    tags: list[str] = []
    env: dict[str, str | int | float] = {}
    timeout: float | str | None = None
    retries: int = 0
    build: list[str] = []
    inputs: list[str] = []
    outputs: list[str] = []
    needs: list[str] | None = None
    requires: list[str] = []
    values_file: dict[str, str] = {}
    browsers: list[str] = []
    webdriver: dict[str, str | list[str]] = {}
