"""What may stand in ``wolfbane.toml``: one pydantic model per table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar, Literal

from wolfbane.kinds.suite import STRICT, Suite
from wolfbane.units import seconds
from wolfbane.workspace.vocabulary import DEFAULT_TIMEOUT, ENGINES


@dataclass(frozen=True)
class WorkspaceTable:
    """``[workspace]``: what holds for every run.

    ``identity`` tells the workspace from others in a history that several share.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    name: str = ""
    leave_out: str = ""
    results: str = ".wolfbane"
    history: str = ""
    identity: str = ""
    jobs: int | None = None
    timeout: float | str = DEFAULT_TIMEOUT
    env: str = ""
    include: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Browser:
    """``[browser.NAME]``: which engine, and how its window is; ``driver`` may hold ``{port}``.

    ``url`` is that of a driver which runs elsewhere. ``window`` is the size of the page in CSS
    pixels, ``device_pixels`` how many of the screen's pixels one of them has.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    engine: Literal["chromium", "firefox", "webkit", "other"]
    binary: str = ""
    driver: str | list[str] = ""
    url: str = ""
    window: str = ""
    device_pixels: float = 0.0
    language: str = ""
    time_zone: str = ""
    user_agent: str = ""
    preferences: dict[str, str | int | float | bool] = field(default_factory=dict)
    arguments: list[str] = field(default_factory=list)
    downloads: str = ""
    insecure: bool = False
    capabilities: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class TagRule:
    """``[[tag]]``: puts a tag on whatever an expression matches."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    name: str
    match: str


@dataclass(frozen=True)
class Retry:
    """``[[retry]]``: tests that an expression matches may run again so many times."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    match: str
    times: int


@dataclass(frozen=True)
class Parameter:
    """``[param.NAME]``: something that a run is pointed at; ``export`` names variables."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    type: Literal[
        "text", "integer", "number", "boolean", "duration", "url", "path", "choice", "list"
    ] = "text"
    default: str | int | float | bool | list[str] | None = None
    required: bool = False
    secret: bool = False
    help: str = ""
    export: str | list[str] = field(default_factory=list)
    choices: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Service:
    """``[service.NAME]``: a program that suites need around them; started with the run.

    ``ready`` is as :func:`wolfbane.workspace.probes.read_probes` reads it; without ``port`` a
    free one is taken.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    command: list[str]
    folder: str = "."
    env: dict[str, str | int | float] = field(default_factory=dict)
    ready: str | dict[str, Any] | list[str | dict[str, Any]] = field(default_factory=list)
    port: int = 0


@dataclass(frozen=True)
class Preset:
    """``[preset.NAME]``: arguments of ``wolfbane run``, kept by name."""

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    arguments: list[str]
    help: str = ""


@dataclass(frozen=True)
class Keep:
    """``[keep]``: what is kept of old runs; what is beyond it goes at the end of a run.

    ``runs`` counts their folders; ``evidence`` and ``history`` are ages, such as 30d.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    runs: int | None = None
    evidence: str = ""
    history: str = ""


@dataclass(frozen=True)
class Mail:
    """``[mail]``: the server that mails go through. Its password is never in the file.

    With ``report_url``, in which ``{run}`` stands for a run's name, reports are linked.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    server: str
    sender: str
    security: Literal["starttls", "tls", "none"] = "starttls"
    user: str = ""
    ca: str = ""
    report_url: str = ""


@dataclass(frozen=True)
class Settings:
    """The whole file. ``suite``, ``tag`` and ``retry`` are its arrays of tables.

    ``param`` is by dotted name; ``env`` holds tables of values, by name of environment.
    """

    __pydantic_config__: ClassVar[Mapping[str, Any]] = STRICT

    workspace: WorkspaceTable = field(default_factory=WorkspaceTable)
    suite: list[Suite] = field(default_factory=list)
    tag: list[TagRule] = field(default_factory=list)
    param: dict[str, Parameter] = field(default_factory=dict)
    env: dict[str, dict[str, Any]] = field(default_factory=dict)
    service: dict[str, Service] = field(default_factory=dict)
    preset: dict[str, Preset] = field(default_factory=dict)
    browser: dict[str, Browser] = field(default_factory=dict)
    retry: list[Retry] = field(default_factory=list)
    mail: Mail | None = None
    keep: Keep = field(default_factory=Keep)


@dataclass(frozen=True)
class Workspace:
    """A folder, its settings, and the file that they are from, if there is one.

    ``detected``: its suites are worked out from its files; then ``nested`` are the folders in it
    that are workspaces of their own. ``included`` are those whose suites are among its own.
    """

    root: Path
    settings: Settings
    file: Path | None
    detected: bool = False
    nested: tuple[str, ...] = ()
    included: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """The workspace's title, for people."""
        return self.settings.workspace.name or self.root.name

    @property
    def results(self) -> Path:
        """The folder that holds runs and caches."""
        return self.root / self.settings.workspace.results

    @property
    def suites(self) -> Sequence[Suite]:
        """Every suite, in the order of the file."""
        return self.settings.suite

    def limit(self, suite: Suite) -> float:
        """Seconds that each test of a suite may take."""
        return seconds(suite.timeout or self.settings.workspace.timeout)

    def waits_for_environment(self, suite: Suite) -> bool:
        """Whether a suite is blocked while its environment is not ready.

        Those that need something; all of them, as long as no suite says what it needs.
        """
        if any(other.needs is not None for other in self.suites):
            return bool(suite.needs)
        return True

    def browser(self, name: str) -> Browser:
        """The browser of that name; an engine's own name needs no table. Raises KeyError."""
        if name not in self.settings.browser and name in ENGINES:
            return Browser(name)  # type: ignore[arg-type]
        return self.settings.browser[name]

    def suite(self, name: str) -> Suite:
        """The suite of that name. Raises KeyError."""
        for suite in self.settings.suite:
            if suite.name == name:
                return suite
        raise KeyError(name)
