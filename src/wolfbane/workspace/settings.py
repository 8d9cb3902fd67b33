"""What may stand in ``wolfbane.toml``: one pydantic model per table."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, field_validator

SETTINGS_NAME = "wolfbane.toml"
KINDS = ("python", "tap")
DEFAULT_TIMEOUT = 600.0
_DURATION = re.compile(r"(\d+(?:\.\d+)?)\s*(ms|s|m|h)?")
_SECONDS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, None: 1.0}


def seconds(value: object) -> float:
    """Read a duration: a number of seconds, or text such as ``250ms``, ``30s``, ``5m``, ``1h``."""
    if isinstance(value, int | float) and not isinstance(value, bool) and value > 0:
        return float(value)
    match = _DURATION.fullmatch(value.strip()) if isinstance(value, str) else None
    if match is None or float(match[1]) == 0:
        raise ValueError(f"{value!r} is not a duration (write 30, '250ms', '30s', '5m' or '1h')")
    return float(match[1]) * _SECONDS[match[2]]


Duration = Annotated[float, BeforeValidator(seconds)]
Name = Annotated[str, Field(pattern=r"^[A-Za-z0-9][\w.-]*$")]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class WorkspaceTable(_Table):
    """``[workspace]``: what holds for every run."""

    name: str = ""
    leave_out: str = ""
    results: str = ".wolfbane"
    jobs: Annotated[int, Field(ge=1)] | None = None
    timeout: Duration = DEFAULT_TIMEOUT


class Suite(_Table):
    """``[[suite]]``: a named group of test files of one kind."""

    name: Name
    kind: Literal["python", "tap"]
    paths: Annotated[list[str], Field(min_length=1)]
    exclude: list[str] = []
    folder: str = "."
    tags: list[str] = []
    env: dict[str, str] = {}
    timeout: Duration | None = None
    python: str = ""
    top: str = ""
    import_path: list[str] = []
    interpreters: dict[str, str | list[str]] = {}

    @field_validator("env", mode="before")
    @classmethod
    def _text(cls, value: object) -> object:
        if isinstance(value, dict):
            return {
                key: str(item) if isinstance(item, int | float) else item
                for key, item in value.items()
            }
        return value


class TagRule(_Table):
    """``[[tag]]``: puts a tag on whatever an expression matches."""

    name: str
    match: str


class Settings(_Table):
    """The whole file."""

    workspace: WorkspaceTable = WorkspaceTable()
    suites: Annotated[list[Suite], Field(alias="suite")] = []
    tag_rules: Annotated[list[TagRule], Field(alias="tag")] = []


@dataclass(frozen=True)
class Workspace:
    """A folder, its settings, and whether they were written down or detected."""

    root: Path
    settings: Settings
    file: Path | None

    @property
    def name(self) -> str:
        """The workspace's title, for people."""
        return self.settings.workspace.name or self.root.name

    @property
    def results(self) -> Path:
        """The folder that holds runs and caches."""
        return self.root / self.settings.workspace.results

    def suite(self, name: str) -> Suite:
        """The suite of that name. Raises KeyError."""
        for suite in self.settings.suites:
            if suite.name == name:
                return suite
        raise KeyError(name)
