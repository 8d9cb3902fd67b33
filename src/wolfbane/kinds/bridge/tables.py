"""The structure of a bridge file: one table for finding, one for running, one for reading."""

from __future__ import annotations

from typing import Literal

from msgspec import field

from wolfbane.kinds.bridge.runner.calls import flat
from wolfbane.tables import SettingsTable

TOGETHER = ("batch", "suite")
"""What a launcher may be started for that is more than one file."""


EXTRA = "{extra}"
"""The argument of a launcher's command whose place the suite's options take."""


class LinePattern(SettingsTable, frozen=True):
    """``[find.lines]``: regular expressions, each tried on each line.

    ``test`` and ``group`` have a named group ``name``. ``tag`` has ``tag``, or ``key`` and
    ``value``; its tags are for the next test or group, or for the one that it stands inside of on
    the same line. Nesting is seen by indentation, or by lines that match ``end``.
    """

    test: str
    group: str = ""
    tag: str = ""
    end: str = ""


class Query(SettingsTable, frozen=True):
    """``[find.query]``: a tree-sitter grammar by name, and a query over it.

    Captures: ``test`` and ``group`` (the whole of one), ``test.name`` and ``group.name``; in a
    match of one of these ``tag``, or ``tag.key`` with ``tag.value``.
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

    Without ``{file}`` it is started once, and says of each test in which file it is. ``pattern``
    is for ``names``: a regular expression that is tried on each line, with a group ``name`` and
    where there are such ``group``, ``file``, ``line`` and ``tags``. ``items`` (JSONPath, RFC 9535)
    and ``keys`` are for ``json``, which may also be a JSON value on each line.
    """

    command: list[str]
    format: Literal["names", "json", "tap"]
    pattern: str = r"^\s*(?P<name>.*\S)"
    items: str = "$[*]"
    keys: ListingKeys = field(default_factory=ListingKeys)


class Find(SettingsTable, frozen=True):
    """``[find]``: the files that contain tests, and one of three ways to find the tests."""

    files: list[str]
    lines: LinePattern | None = None
    query: Query | None = None
    listing: Listing | None = None


class NamesTable(SettingsTable, frozen=True):
    """``[run.names]``: how the launcher gets the names of tests to run.

    ``how``: one option for ``each``, all ``joined`` by a separator, one ``pattern`` that matches
    them, a ``list`` in a file with one on each line, or not at all: then ``files`` are run whole.
    ``name`` is what the launcher calls a test: a template of ``{name}``, ``{group}``, ``{line}``,
    ``{file}``, and of the file ``{folder}``, ``{stem}`` and ``{module}``. Text behind a colon, such
    as the dot of ``{group:.}``, stands after a value that is not empty.
    With ``unless_all`` none are given where all known tests of the files are chosen, so that those
    which only the launcher knows are run, too.
    """

    how: Literal["each", "joined", "pattern", "list", "files"]
    name: str = "{name}"
    nested: str = "."
    option: str = ""
    separator: str = ","
    dialect: Literal["pcre", "python", "java", "javascript", "go", "posix", "tcl", "glob"] = "pcre"
    whole: str = "^({})$"
    unless_all: bool = False


class Serve(SettingsTable, frozen=True):
    """``[run.serve]``: the launcher keeps running and reads one request per line.

    ``request`` has the arguments of one, sent as a ``json`` array or as shell ``words``. Its answer
    ends with a line that matches ``done``, whose group ``code``, if it has one, is an exit code.
    """

    request: list[str | list[str]]
    done: str
    format: Literal["json", "words"] = "json"


class Run(SettingsTable, frozen=True):
    """``[run]``: the launcher's argument list, and what its exit codes mean.

    ``before`` are shell commands that prepare a run, once, before all starts. A list inside of
    ``command`` is left out where one of its placeholders has no value.
    ``per`` says for how much it is started: a ``test``, a ``file``, a ``batch`` of files (as many
    of them as tests run at a time), or all that was chosen of the ``suite``.
    """

    command: list[str | list[str]]
    names: NamesTable
    per: Literal["test", "file", "batch", "suite"] = "file"
    env: dict[str, str] = {}
    passed: list[int] = field(default_factory=lambda: [0])
    failed: list[int] = field(default_factory=lambda: [1])
    before: list[str] = []
    serve: Serve | None = None

    @property
    def arguments(self) -> list[str]:
        """All arguments of a start, those that belong together among the others."""
        return [*flat(self.command), *(flat(self.serve.request) if self.serve else ())]


class EventKeys(SettingsTable, frozen=True):
    """``[read.keys]``: the key names in the objects of ``events``, if they differ from the
    defaults.

    ``milliseconds`` is read if it is not empty, ``seconds`` otherwise.
    """

    name: str = "name"
    outcome: str = "outcome"
    group: str = "group"
    file: str = "file"
    line: str = "line"
    seconds: str = "seconds"
    milliseconds: str = ""
    message: str = "message"
    trace: str = "trace"
    output: str = "output"


class ReportTable(SettingsTable, frozen=True):
    """``[[read.also]]``: an additional report of the launcher, and how its entries name tests.

    ``report`` is a path or glob, where it is best below ``{scratch}``; empty, the output is read.
    ``name`` makes of an entry's ``{name}``, ``{group}``, ``{suite}`` and ``{file}`` what ``test``
    of ``[read]`` makes of the test. ``part`` is a regular expression on that, with groups ``test``
    and ``part``: where it matches, the entry is of a part of a test.
    For ``lines`` the patterns have groups ``name``, ``seconds`` or ``milliseconds``, and
    ``message``; other lines are output of the test ``before`` or ``after`` whose line they stand,
    as ``output`` says, or of none. Lines that match ``ignore`` are none of these. For ``events``,
    ``keys`` are the launcher's own keys, and ``outcomes`` what its words for outcomes mean. With
    ``exit`` nothing is read: the exit code of a start is the outcome of its test.
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
    output: Literal["before", "after", ""] = ""


class ReadTable(ReportTable, frozen=True):
    """``[read]``: the report, and optional additional report files in ``also``.

    ``test`` is what the reports call a test: a template, or, if it is empty, ``run.names.name``.
    """

    test: str = ""
    also: list[ReportTable] = []


class Bridge(SettingsTable, frozen=True):
    """A complete bridge file. ``about`` is a name for the launcher."""

    about: str
    find: Find
    run: Run
    read: ReadTable
