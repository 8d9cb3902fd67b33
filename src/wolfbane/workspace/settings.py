"""The structure of ``wolfbane.toml``: one type for each table."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

from msgspec import Struct, field

from wolfbane.basis.toml_tables import SettingsTable
from wolfbane.basis.units import seconds
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.load_settings import LoadProfile
from wolfbane.workspace.suite_source import SuiteSource
from wolfbane.workspace.vocabulary import DEFAULT_TIMEOUT, ENGINES, EngineName


class WorkspaceTable(SettingsTable, frozen=True):
    """``[workspace]``: settings for every run.

    ``identity`` distinguishes the workspace from others in a shared history.
    """

    name: str = ""
    leave_out: str = ""
    results: str = ".wolfbane"
    history: str = ""
    identity: str = ""
    jobs: int | None = None
    timeout: float | str = DEFAULT_TIMEOUT
    env: str = ""
    include: list[str] = []


class Browser(SettingsTable, frozen=True):
    """``[browser.NAME]``: the engine and its window. ``driver`` may contain ``{port}``.

    ``url`` is the address of a running driver. ``window`` is the size of the page in CSS pixels,
    ``device_pixels`` the number of screen pixels for each of them.
    """

    engine: EngineName
    binary: str = ""
    driver: str | list[str] = ""
    url: str = ""
    window: str = ""
    device_pixels: float = 0.0
    language: str = ""
    time_zone: str = ""
    user_agent: str = ""
    preferences: dict[str, str | int | float | bool] = {}
    arguments: list[str] = []
    downloads: str = ""
    insecure: bool = False
    capabilities: dict[str, Any] = {}


class TagRule(SettingsTable, frozen=True):
    """``[[tag]]``: adds a tag to all tests that match an expression."""

    name: str
    match: str


class Retry(SettingsTable, frozen=True):
    """``[[retry]]``: the maximum number of retries for tests that match an expression."""

    match: str
    times: int


class Parameter(SettingsTable, frozen=True):
    """``[param.NAME]``: a parameter of the environment. ``export`` lists environment variables."""

    type: Literal[
        "text", "integer", "number", "boolean", "duration", "url", "path", "choice", "list"
    ] = "text"
    default: str | int | float | bool | list[str] | None = None
    required: bool = False
    secret: bool = False
    help: str = ""
    export: str | list[str] = []
    choices: list[str] = []


class Service(SettingsTable, frozen=True):
    """``[service.NAME]``: a program that suites need. It starts with the run.

    ``ready`` has the form that :func:`wolfbane.workspace.probes.read_probes` reads; without
    ``port``, a free one is used.
    """

    command: list[str]
    folder: str = "."
    env: dict[str, str | int | float] = {}
    ready: str | dict[str, Any] | list[str | dict[str, Any]] = []
    port: int = 0


class Preset(SettingsTable, frozen=True):
    """``[preset.NAME]``: named arguments of ``wolfbane run``."""

    arguments: list[str]
    help: str = ""


class Keep(SettingsTable, frozen=True):
    """``[keep]``: limits for old runs. Runs beyond the limits are removed at the end of a run.

    ``runs`` counts the folders of runs; ``evidence`` and ``history`` are ages, such as 30d.
    """

    runs: int | None = None
    evidence: str = ""
    history: str = ""


class Mail(SettingsTable, frozen=True):
    """``[mail]``: the mail server. The file never contains its password.

    With ``report_url``, in which ``{run}`` is replaced by a run's name, reports are linked.
    """

    server: str
    sender: str
    security: Literal["starttls", "tls", "none"] = "starttls"
    user: str = ""
    ca: str = ""
    report_url: str = ""


class MaskTable(SettingsTable, frozen=True):
    """``[mask]``: more texts that are masked like secrets.

    The matches of the regular expressions in ``patterns`` are masked; if one has a group
    ``secret``, only that group. ``forms`` is a command that reads secrets as JSON strings, one per
    line, and prints other forms of them in the same way.
    """

    patterns: list[str] = []
    forms: list[str] = []


class ClusterTable(SettingsTable, frozen=True):
    """``[cluster]``: the machines that runs may use, and the files that are sent to them.

    ``include`` are globs of files that git ignores but that machines need, ``exclude`` globs of
    files that are not sent. ``limit`` is the maximum size of the workspace, ``evidence_limit`` the
    maximum size of one evidence file. The other files are for ``tls://`` addresses.
    """

    address: str = ""
    include: list[str] = []
    exclude: list[str] = []
    limit: str | int = "1 GB"
    evidence_limit: str | int = "256 MB"
    ca: str = ""
    certificate: str = ""
    key: str = ""

    def tls(self, root: Path) -> dict[str, str]:
        """The paths of the files for TLS; none if there are none."""
        files = {"ca": self.ca, "certificate": self.certificate, "key": self.key}
        if self.ca:
            return {name: str(root / path) for name, path in files.items()}
        return {}


class Settings(SettingsTable, frozen=True):
    """The complete file. ``suite``, ``tag`` and ``retry`` are arrays of tables.

    ``param`` is by dotted name; ``env`` contains tables of values, by name of environment.
    """

    workspace: WorkspaceTable = field(default_factory=WorkspaceTable)
    suite: list[Suite] = []
    tag: list[TagRule] = []
    param: dict[str, Parameter] = {}
    env: dict[str, dict[str, Any]] = {}
    service: dict[str, Service] = {}
    preset: dict[str, Preset] = {}
    browser: dict[str, Browser] = {}
    retry: list[Retry] = []
    mail: Mail | None = None
    mask: MaskTable = field(default_factory=MaskTable)
    keep: Keep = field(default_factory=Keep)
    load: dict[str, LoadProfile] = {}
    cluster: ClusterTable = field(default_factory=ClusterTable)


class Workspace(Struct, frozen=True):
    """A folder, its settings, and the settings file, if there is one.

    ``detected``: its suites are detected from its files; then ``nested`` are the folders in it that
    are separate workspaces, and ``projects`` those of its projects if it only contains projects.
    ``included`` are those whose suites are among its own. With a
    ``source``, it is a copy of another workspace at a git revision.
    """

    root: Path
    settings: Settings
    file: Path | None
    detected: bool = False
    nested: tuple[str, ...] = ()
    projects: tuple[str, ...] = ()
    included: tuple[str, ...] = ()
    source: SuiteSource | None = None

    @property
    def name(self) -> str:
        """The workspace's title, for display."""
        return self.settings.workspace.name or self.home.name

    @property
    def results(self) -> Path:
        """The folder that contains the records of runs."""
        if self.source:
            return self.source.results
        return self.root / self.settings.workspace.results

    @property
    def caches(self) -> Path:
        """The folder for data about the current files: tests, outcomes, builds."""
        if self.source:
            return self.source.caches
        return self.results

    @property
    def home(self) -> Path:
        """The folder of environments, secrets and the quarantine."""
        if self.source:
            return self.source.home
        return self.root

    @property
    def suites(self) -> Sequence[Suite]:
        """Every suite, in the order of the file."""
        return self.settings.suite

    def limit(self, suite: Suite) -> float:
        """Time limit in seconds for each test of a suite."""
        return seconds(suite.timeout or self.settings.workspace.timeout)

    def waits_for_environment(self, suite: Suite) -> bool:
        """Whether a suite is blocked while its environment is not ready.

        The suites with ``needs``; all suites if no suite has this key.
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
