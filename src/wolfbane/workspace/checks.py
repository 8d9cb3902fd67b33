"""Checks the meaning of settings: values, names, paths, expressions.

The shape was checked before.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import Any

from wolfbane.basis.toml_lines import Location, line_of
from wolfbane.basis.units import seconds, size
from wolfbane.errors import ExpressionError, InputError, Problem, did_you_mean
from wolfbane.kinds.protocols import HasPathSettings, path_on_disk
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.selection import parse
from wolfbane.workspace.load_settings import LoadProfile
from wolfbane.workspace.probes import read_probes
from wolfbane.workspace.settings import (
    Browser,
    ClusterTable,
    Parameter,
    Service,
    Settings,
)
from wolfbane.workspace.version_source import read_version_source
from wolfbane.workspace.vocabulary import (
    ENDPOINT_PARTS,
    ENGINES,
    OTHER_ENGINE,
    SURROUNDINGS,
    VALUE_FORMS,
    VERSION,
    WINDOW,
    is_env_word,
)

_LAST_PORT = 65535
_NAME = re.compile(r"[A-Za-z0-9][\w.-]*")


def meaning_problems(path: Path, lines: dict[Location, int], settings: Settings) -> list[Problem]:
    """All errors in the settings of ``path``, in the order of its lines."""
    checks = _Checks(path, lines)
    table = settings.workspace
    checks.duration(("workspace", "timeout"), table.timeout)
    for key in ("evidence", "history"):
        if value := getattr(settings.keep, key):
            checks.duration(("keep", key), value, needs_unit=True)
    checks.cluster(settings.cluster)
    checks.patterns(("mask", "patterns"), settings.mask.patterns)
    if table.jobs is not None and table.jobs < 1:
        checks.add(("workspace", "jobs"), f"'jobs' is {table.jobs}; it must be at least 1")
    checks.expression(("workspace", "leave_out"), table.leave_out or "everything")
    names: dict[str, int] = {}
    for index, suite in enumerate(settings.suite):
        location: Location = ("suite", index)
        checks.name(location, suite.name, names)
        names.setdefault(suite.name, index)
        checks.paths(location, suite)
        checks.kind(location, suite, settings.param)
        checks.named_services((*location, "needs"), suite.needs or [], settings)
        checks.values_file((*location, "values_file"), suite)
        checks.browsers(location, suite, settings)
        checks.times((*location, "retries"), suite.retries)
        if suite.timeout is not None:
            checks.duration((*location, "timeout"), suite.timeout)
    for index, rule in enumerate(settings.tag):
        checks.expression(("tag", index, "match"), rule.match)
    for index, retry in enumerate(settings.retry):
        checks.expression(("retry", index, "match"), retry.match)
        checks.times(("retry", index, "times"), retry.times)
    for name, parameter in settings.param.items():
        checks.parameter(("param", *name.split(".")), name, parameter)
    for name, values in settings.env.items():
        checks.environment(("env", name), values)
        checks.named_services(("env", name, "services"), values.get("services", []), settings)
    for name, service in settings.service.items():
        checks.service(("service", name), service, settings)
    for name, profile in settings.load.items():
        checks.load(("load", name), profile)
    for name, browser in settings.browser.items():
        checks.browser(("browser", name), browser)
    return list(_each_once(sorted(checks.problems, key=lambda problem: problem.line)))


def _each_once(problems: Iterable[Problem]) -> Iterator[Problem]:
    """One message for a name that is wrong in several places."""
    groups: dict[tuple[str, str], list[Problem]] = {}
    for problem in problems:
        groups.setdefault((problem.message, problem.file), []).append(problem)
    for first, *others in groups.values():
        lines = sorted({other.line for other in others} - {first.line})
        also = ""
        if lines:
            also = f" (also on line {', '.join(map(str, lines))})"
        yield first._replace(message=first.message + also)


class _Checks:
    def __init__(self, path: Path, lines: dict[Location, int]) -> None:
        self.problems: list[Problem] = []
        self._path, self._lines = path, lines

    def add(self, location: Location, message: str) -> None:
        self.problems.append(Problem(message, self._path.name, line_of(self._lines, location)))

    def duration(self, location: Location, value: object, *, needs_unit: bool = False) -> None:
        try:
            seconds(value, needs_unit=needs_unit)
        except ValueError as error:
            self.add(location, f"'{location[-1]}': {error}")

    def cluster(self, table: ClusterTable) -> None:
        for key in ("limit", "evidence_limit"):
            try:
                size(getattr(table, key))
            except ValueError as error:
                self.add(("cluster", key), f"'{key}': {error}")
        given = {key: getattr(table, key) for key in ("ca", "certificate", "key")}
        for key, path in given.items():
            if path and not (self._path.parent / path).is_file():
                self.add(("cluster", key), f"'{key}': file {path} does not exist")
        lacking = [f"'{key}'" for key, path in given.items() if not path]
        if lacking and any(given.values()):
            self.add(("cluster",), f"TLS also needs {' and '.join(lacking)}")

    def times(self, location: Location, value: int) -> None:
        if value < 0:
            self.add(location, f"'{location[-1]}' is {value}; it must be 0 or more")

    def expression(self, location: Location, text: str) -> None:
        try:
            parse(text)
        except ExpressionError as error:
            self.add(location, str(error))

    def name(self, location: Location, name: str, seen: Mapping[str, int]) -> None:
        if not _NAME.fullmatch(name):
            self.add(
                (*location, "name"),
                f"'{name}' is not a valid name; use letters, digits, '.', '_', '-'",
            )
        if name in seen:
            first = line_of(self._lines, ("suite", seen[name], "name"))
            self.add((*location, "name"), f"two suites are named '{name}' (line {first})")

    def kind(self, base: Location, suite: Suite, parameters: Collection[str]) -> None:
        """The problems that the suite's kind finds in its own settings."""
        kind, root = find_kind(suite.kind), self._path.parent
        if isinstance(kind, HasPathSettings):
            for key, paths in kind.paths_in_settings(suite).items():
                self.existing(base, key, suite, paths=paths)
        try:
            for location, message in kind.wrong_settings(root, suite, parameters):
                self.add((*base, *location), message)
        except InputError as error:
            self.problems += error.problems

    def parameter(self, location: Location, name: str, parameter: Parameter) -> None:
        if not re.fullmatch(r"[A-Za-z_][\w.-]*", name):
            self.add(location, f"'{name}' is not a valid parameter name")
        if (parameter.type == "choice") != bool(parameter.choices):
            self.add(location, f"'{name}': use 'choices' together with type = \"choice\"")
        if parameter.secret and parameter.default is not None:
            self.add(
                (*location, "default"),
                f"'{name}': a secret cannot have a default value in this file",
            )

    def environment(self, location: Location, table: Mapping[str, Any]) -> None:
        if not isinstance(table.get("extends", ""), str):
            self.add((*location, "extends"), "'extends' must be the name of one environment")
        files = table.get("values_from", [])
        if isinstance(files, str):
            named = [files]
        else:
            named = files
        if not (isinstance(named, list) and all(isinstance(name, str) for name in named)):
            self.add((*location, "values_from"), "'values_from' must be a file or a list of files")

        if not isinstance(table.get("load", False), bool):
            self.add((*location, "load"), "'load' must be true or false")
        self.probes((*location, "ready"), table.get("ready", []))
        if is_env_word(VERSION, table.get(VERSION)):
            try:
                read_version_source(table["version"])
            except ValueError as error:
                self.add((*location, "version"), f"'version': {error}")

    def probes(self, location: Location, given: Any) -> None:
        try:
            read_probes(given)
        except ValueError as error:
            self.add(location, f"'ready': {error}")

    def service(self, location: Location, service: Service, settings: Settings) -> None:
        if not service.command:
            self.add((*location, "command"), f"service '{location[-1]}' has no command")
        if not (self._path.parent / service.folder).is_dir():
            self.add((*location, "folder"), f"folder '{service.folder}' does not exist")
        if location[-1] == SURROUNDINGS or f"{location[-1]}.port" in settings.param:
            self.add(
                location, f"'{location[-1]}' is a reserved name; give the service another name"
            )
        if not 0 <= service.port <= _LAST_PORT:
            self.add((*location, "port"), f"'port' is {service.port}, which is not a port number")
        self.probes((*location, "ready"), service.ready)

    def load(self, location: Location, profile: LoadProfile) -> None:
        for key in ("ramp", "duration"):
            if text := getattr(profile, key):
                self.duration((*location, key), text)
        for stage in profile.stages:
            self.duration((*location, "stages"), stage.duration)
        self.expression((*location, "select"), profile.select or "everything")
        for entry in profile.mix:
            self.expression((*location, "mix"), entry.match)

    def named_services(self, location: Location, names: Any, settings: Settings) -> None:
        if not (isinstance(names, list) and all(isinstance(name, str) for name in names)):
            self.add(location, f"'{location[-1]}' must be a list of services")
            return
        known = [*settings.service, SURROUNDINGS][: None if location[0] == "suite" else -1]
        for name in names:
            if name not in known:
                hint = did_you_mean(name, known)
                self.add(location, f"there is no service '{name}'; {hint}".removesuffix("; "))

    def values_file(self, location: Location, suite: Suite) -> None:
        for form in suite.values_file:
            if form not in VALUE_FORMS:
                hint = did_you_mean(form, VALUE_FORMS)
                self.add(location, f"'values_file': unknown form '{form}'; {hint}")

    def patterns(self, location: Location, patterns: Iterable[str]) -> None:
        for pattern in patterns:
            try:
                empty = re.compile(pattern).search("") is not None
            except re.error as error:
                self.add(location, f"'{pattern}' is not a regular expression: {error}")
            else:
                if empty:
                    self.add(location, f"'{pattern}' also matches an empty text; it must not")

    def browsers(self, location: Location, suite: Suite, settings: Settings) -> None:
        known = [*dict.fromkeys((*settings.browser, *ENGINES))]
        for name in suite.browsers:
            if name not in known:
                hint = did_you_mean(name, known)
                self.add((*location, "browsers"), f"there is no browser '{name}'; {hint}")
        for part in suite.webdriver:
            if part not in ENDPOINT_PARTS:
                hint = did_you_mean(part, ENDPOINT_PARTS)
                self.add((*location, "webdriver"), f"'webdriver': unknown part '{part}'; {hint}")
        if suite.webdriver and not suite.browsers:
            self.add(
                (*location, "webdriver"), "'webdriver' works only in suites that list 'browsers'"
            )

    def browser(self, location: Location, browser: Browser) -> None:
        if not _NAME.fullmatch(str(location[1])):
            self.add(
                location, f"'{location[1]}' is not a valid name; use letters, digits, '.', '_', '-'"
            )
        if browser.window and not WINDOW.fullmatch(browser.window):
            message = (
                f"'window' is '{browser.window}'; write width and height, for example 1280x800"
            )
            self.add((*location, "window"), message)
        if browser.device_pixels < 0:
            self.add((*location, "device_pixels"), "'device_pixels' must not be negative")
        if browser.engine == OTHER_ENGINE and not (browser.driver or browser.url):
            self.add(location, "Wolfbane does not know this engine; set 'driver' or 'url'")

    def paths(self, location: Location, suite: Suite) -> None:
        if not suite.paths:
            self.add((*location, "paths"), f"suite '{suite.name}' has no 'paths'")
        if not suite.build:  # a build may make them
            own = [path for path in suite.paths if path_on_disk(suite, path) == path]
            self.existing(location, "paths", suite, paths=own)
        self.existing(location, "inputs", suite, paths=suite.inputs)
        for path in suite.outputs:
            if PurePosixPath(path).is_absolute() or ".." in PurePosixPath(path).parts:
                self.add((*location, "outputs"), f"'{path}' is outside the workspace")
        if not (self._path.parent / suite.folder).is_dir():
            self.add((*location, "folder"), f"folder '{suite.folder}' does not exist")

    def existing(self, location: Location, key: str, suite: Suite, paths: Sequence[str]) -> None:
        """Every path that is not a glob must exist."""
        for path in paths:
            if not any(mark in path for mark in "*?") and not (self._path.parent / path).exists():
                self.add((*location, key), f"suite '{suite.name}': path '{path}' does not exist")
