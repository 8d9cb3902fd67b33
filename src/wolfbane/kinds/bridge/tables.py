"""The structure of a bridge file: one table for finding, one for running, one for reading."""

from __future__ import annotations

from typing import Literal

from msgspec import field

from wolfbane.basis.toml_tables import SettingsTable
from wolfbane.kinds.bridge.runner.calls import flat
from wolfbane.kinds.suite import Suite

TOGETHER = ("batch", "suite")
"""The units, larger than one file, for which a launcher can start."""


EXTRA = "{extra}"
"""The argument of a launcher's command that the suite's options replace."""


class LinePattern(SettingsTable, frozen=True):
    """``[find.lines]``: regular expressions that are tried on each line.

    ``test`` and ``group`` have a named group ``name``. ``tag`` has ``tag``, or ``key`` and
    ``value``; its tags apply to the next test or group, or to the one on the same line. Nesting
    follows indentation, or lines that match ``end``.
    """

    test: str
    group: str = ""
    tag: str = ""
    end: str = ""


class Query(SettingsTable, frozen=True):
    """``[find.query]``: the name of a tree-sitter grammar, and a query for it.

    Captures: ``test`` and ``group`` (the complete item), ``test.name`` and ``group.name``; in a
    match of one of these, ``tag``, or ``tag.key`` with ``tag.value``.
    """

    grammar: str
    text: str


class ListingKeys(SettingsTable, frozen=True):
    """``[find.listing.keys]``: the key names in the objects of a JSON list, if they differ from the
    defaults.
    """

    name: str = "name"
    group: str = "group"
    file: str = "file"
    line: str = "line"
    tags: str = "tags"


class Listing(SettingsTable, frozen=True):
    """``[find.listing]``: a command that lists all tests, run once for each ``{file}``.

    Without ``{file}``, the command runs once and reports the file of each test; tests without one
    belong to ``file``, relative to the suite's folder. ``pattern`` is for
    ``names``: a regular expression for each line, with a group ``name`` and optionally ``group``,
    ``file``, ``line`` and ``tags``. ``items`` (JSONPath, RFC 9535) and ``keys`` are for ``json``,
    which may also be one JSON value per line.
    """

    command: list[str]
    format: Literal["names", "json", "tap"]
    pattern: str = r"^\s*(?P<name>.*\S)"
    items: str = "$[*]"
    file: str = ""
    keys: ListingKeys = field(default_factory=ListingKeys)


class Find(SettingsTable, frozen=True):
    """``[find]``: the files that contain tests, and one of three ways to find the tests."""

    files: list[str]
    lines: LinePattern | None = None
    query: Query | None = None
    listing: Listing | None = None


WITHOUT_SELECTION = "none"
"""``run.names.how`` of a launcher that runs all its tests in each start."""


class NamesTable(SettingsTable, frozen=True):
    """``[run.names]``: how the launcher gets the names of the tests to run.

    ``how``: one option for ``each``, all ``joined`` by a separator, one ``pattern`` that matches
    them, a ``list`` in a file with one name per line, the same list in the standard ``input``,
    ``files``: each file runs whole, or ``none``: each start runs all tests, and only the results of
    the selected ones count. ``name`` is the launcher's name for a test: a template of ``{name}``,
    ``{group}``, ``{line}``, ``{file}``, and from the file ``{folder}``, ``{stem}``, ``{module}``
    and ``{package}``. Text after a colon, such as the dot of ``{group:.}``, follows a value that is
    not empty. ``omit`` defines when no names are given, so that tests which were not found also
    run: ``always`` if all known tests are selected; ``after changes`` of the sources, in the first
    run of all tests; or ``never``.
    """

    how: Literal["each", "joined", "pattern", "list", "input", "files", "none"]
    name: str = "{name}"
    nested: str = "."
    option: str = ""
    separator: str = ","
    dialect: Literal["pcre", "python", "java", "javascript", "go", "posix", "tcl", "glob"] = "pcre"
    whole: str = "^({})$"
    omit: Literal["after changes", "always", "never"] = "after changes"


class Serve(SettingsTable, frozen=True):
    """``[run.serve]``: the launcher keeps running and reads one request per line.

    ``request`` has the arguments of one start, sent as a ``json`` array or as shell ``words``. Its
    response ends with a line that matches ``done``, whose optional group ``code`` is an exit code.
    """

    request: list[str | list[str]]
    done: str
    format: Literal["json", "words"] = "json"


class Run(SettingsTable, frozen=True):
    """``[run]``: the launcher's argument list, and the meaning of its exit codes.

    ``before`` are shell commands that prepare a run, once, before all starts. A list inside
    ``command`` is omitted if one of its placeholders has no value. ``per`` is the unit of a start:
    a ``test``, a ``file``, a ``batch`` of files (as many batches as jobs), or all selected tests of
    the ``suite``; with ``{folder}`` or ``{package}``, those of one folder. ``start_timeout`` is the
    time that the launcher needs in addition to its tests.
    """

    command: list[str | list[str]]
    names: NamesTable
    per: Literal["test", "file", "batch", "suite"] = "file"
    start_timeout: float | str = 0.0
    env: dict[str, str] = {}
    passed: list[int] = field(default_factory=lambda: [0])
    failed: list[int] = field(default_factory=lambda: [1])
    before: list[str] = []
    serve: Serve | None = None

    @property
    def arguments(self) -> list[str]:
        """All arguments of a start, with nested lists flattened."""
        return [*flat(self.command), *(flat(self.serve.request) if self.serve else ())]


class EventKeys(SettingsTable, frozen=True):
    """``[read.keys]``: the key names in the objects of ``events``, if they differ from the
    defaults.

    ``milliseconds`` is read if it is not empty, ``seconds`` otherwise. ``package`` is the folder
    or module of a test whose file is not in the report.
    """

    name: str = "name"
    outcome: str = "outcome"
    group: str = "group"
    file: str = "file"
    package: str = "package"
    line: str = "line"
    seconds: str = "seconds"
    milliseconds: str = ""
    message: str = "message"
    trace: str = "trace"
    output: str = "output"


class ReportTable(SettingsTable, frozen=True):
    """``[[read.also]]``: an additional report of the launcher, and how its entries name tests.

    ``report`` is a path or glob, preferably below ``{scratch}``; if it is empty, the output is
    read. ``name`` converts an entry's ``{name}``, ``{group}``, ``{suite}`` and ``{file}`` to the
    result of ``test`` of ``[read]`` for the test. ``part`` is a regular expression for this name,
    with groups ``test`` and ``part``: if it matches, the entry is a part of a test. For ``lines``,
    the patterns have groups ``name``, ``group``, ``file``, ``package``, ``line``, ``seconds`` or
    ``milliseconds``, and ``message``; other lines are output of the test ``before`` or ``after``
    them, as ``output`` defines, or of none. Lines that match ``ignore`` are ignored. A line that
    matches ``section`` gives the ``file``, the ``group`` or the ``package`` (a folder or module) of
    the results after it, and one that matches ``section_end`` those of the results before it. A
    line that matches ``began`` says that the test ``name`` begins; then each test has its own time
    limit. For ``events``, ``keys`` are the launcher's own keys, and ``outcomes`` map its words to
    outcomes, or to ``began``. With ``exit``, nothing is read: the exit code is the outcome of the
    test.
    """

    format: Literal["xunit", "ctrf", "tap", "events", "lines", "exit"]
    report: str = ""
    name: str = "{name}"
    part: str = ""
    passed: str = ""
    failed: str = ""
    skipped: str = ""
    keys: EventKeys = field(default_factory=EventKeys)
    outcomes: dict[str, str] = {}
    ignore: str = ""
    section: str = ""
    section_end: str = ""
    began: str = ""
    output: Literal["before", "after", ""] = ""


class ReadTable(ReportTable, frozen=True):
    """``[read]``: the report, and optional additional report files in ``also``.

    ``test`` is the name of the test in the reports: a template, or, if it is empty,
    ``run.names.name``.
    """

    test: str = ""
    also: list[ReportTable] = []


class Bridge(SettingsTable, frozen=True):
    """A complete bridge file. ``about`` is a name for the launcher."""

    about: str
    find: Find
    run: Run
    read: ReadTable


class BridgeSuite(Suite, frozen=True):
    """A suite whose launcher a bridge file describes; ``bridge`` is its path.

    ``options`` replace ``{extra}`` in the launcher's command.
    """

    bridge: str = ""
    options: list[str] = []
