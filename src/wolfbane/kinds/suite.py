"""The settings that suites of every kind have in common."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar

# pydantic reads this when it checks a table of settings. Nothing else needs pydantic.
STRICT: Mapping[str, Any] = {"extra": "forbid", "strict": True}


@dataclass(frozen=True)
class Suite:
    """``[[suite]]``: a named group of test files of one kind.

    Each kind has a subclass with the keys that only its suites have.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    name: str
    kind: str
    paths: list[str]
    exclude: list[str] = field(default_factory=list)
    folder: str = "."
    tags: list[str] = field(default_factory=list)
    env: dict[str, str | int | float] = field(default_factory=dict)
    timeout: float | str | None = None
    retries: int = 0
    build: list[str] = field(default_factory=list)
    inputs: list[str] = field(default_factory=list)
    needs: list[str] | None = None
    values_file: dict[str, str] = field(default_factory=dict)
    browsers: list[str] = field(default_factory=list)
    webdriver: dict[str, str | list[str]] = field(default_factory=dict)
