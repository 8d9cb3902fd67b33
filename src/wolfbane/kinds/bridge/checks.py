"""Checks the meaning of a bridge: ways of finding tests, patterns, placeholders."""

from __future__ import annotations

import re
import string
from collections.abc import Iterable, Iterator

from wolfbane.basis.toml_lines import Location
from wolfbane.basis.units import seconds
from wolfbane.errors import did_you_mean
from wolfbane.kinds.bridge.runner.calls import flat
from wolfbane.kinds.bridge.runner.line_reading import BEGAN
from wolfbane.kinds.bridge.tables import (
    TOGETHER,
    WITHOUT_SELECTION,
    Bridge,
    Find,
    Listing,
    ReportTable,
    Run,
    Serve,
)
from wolfbane.kinds.contract import OMIT_NEVER
from wolfbane.model import Outcome

Wrong = Iterator[tuple[Location, str]]
OF_FILES = frozenset({"file", "folder", "stem", "module", "package"})
NAMING = frozenset({"name", "group", "line"}) | OF_FILES
OF_ENTRIES = frozenset({"name", "group", "suite", "file"})
OF_SECTIONS = frozenset({"file", "group", "package"})
OF_LISTINGS = frozenset({"file", "scratch", "root"})
OF_REQUESTS = OF_FILES | {"files", "names", "report", "scratch", "root", "browser", "extra"}
OF_STANDING = frozenset({"root", "browser", "extra"})


def wrong_meaning(bridge: Bridge, parameters: Iterable[str]) -> Wrong:
    """Every error in the meaning of a bridge with a valid shape."""
    declared = frozenset(f"param.{name}" for name in parameters)
    yield from _finding(bridge.find, whole_files=bridge.run.names.how == "files")
    if bridge.find.listing:
        yield from _listing(bridge.find.listing, declared)
    yield from _running(bridge.run, declared)
    yield from _reading(bridge)


def _finding(find: Find, *, whole_files: bool) -> Wrong:
    ways = [way for way in (find.lines, find.query, find.listing) if way is not None]
    if len(ways) != 1 and not (whole_files and not ways):
        yield ("find",), "use exactly one way to find tests: lines, query or listing"
    elif whole_files and find.listing:
        message = (
            "a listing finds single tests, but with run.names.how = 'files' each file is one test"
        )
        yield ("find", "listing"), message
    if find.lines:
        for key in ("test", "group", "tag", "end"):
            text = getattr(find.lines, key)
            if key in ("test", "group"):
                groups = ["name"]
            else:
                groups = []
            yield from _pattern(("find", "lines", key), text, *groups)


def _listing(listing: Listing, declared: frozenset[str]) -> Wrong:
    location = ("find", "listing")
    yield from _pattern((*location, "pattern"), listing.pattern, "name")
    yield from _command((*location, "command"), listing.command, OF_LISTINGS | declared)
    if listing.format == "json":
        from jsonpath_rfc9535 import JSONPathError
        from jsonpath_rfc9535 import compile as compile_path

        try:
            compile_path(listing.items)
        except JSONPathError as error:
            yield (*location, "items"), f"not a JSONPath: {str(error).partition(chr(10))[0]}"


def _running(run: Run, declared: frozenset[str]) -> Wrong:
    yield from _template(("run", "names", "name"), run.names.name, NAMING)
    if run.serve:
        yield from _serving(run.serve, run.command, declared)
    else:
        yield from _command(("run", "command"), run.arguments, OF_REQUESTS | declared)
    command = " ".join(run.arguments)
    if run.start_timeout != 0:
        try:
            seconds(run.start_timeout)
        except ValueError as error:
            yield ("run", "start_timeout"), f"'start_timeout': {error}"
    if run.command and not isinstance(run.command[0], str):
        yield (
            ("run", "command"),
            "the first argument must be the launcher itself, without placeholders",
        )
    takes_names = run.names.how not in ("files", WITHOUT_SELECTION)
    if run.names.how == "input":
        yield from _input(run, command)
    elif takes_names and "{names}" not in command:
        yield (
            ("run", "command"),
            "no argument is {names}, so the launcher does not get the tests to run",
        )
    if run.names.how == WITHOUT_SELECTION and run.per == "test":
        message = "with run.names.how = 'none', a start runs all tests; set run.per to 'suite'"
        yield ("run", "per"), message
    if run.per in TOGETHER:
        for name in ("file", "stem", "module"):
            if f"{{{name}}}" in command:
                message = f"{{{name}}} is one file, but run.per is '{run.per}'; use {{files}}"
                yield ("run", "command"), message
    if run.per in TOGETHER and run.names.how == "files":
        message = (
            f"run.per is '{run.per}', but each file is one test, "
            f"so the reports of several files would be mixed"
        )
        yield ("run", "per"), message


def _input(run: Run, command: str) -> Wrong:
    """Names in the standard input: without names, an option or an argument has to be missing."""
    if run.serve:
        yield ("run", "names", "how"), "'input' is not possible for a launcher that keeps running"
    elif "{names}" not in command and run.names.omit != OMIT_NEVER:
        message = (
            "no argument is {names} (a '-' for the standard input), so the launcher always reads "
            "names; set run.names.omit = 'never'"
        )
        yield ("run", "names", "omit"), message


def _serving(serve: Serve, command: list[str | list[str]], declared: frozenset[str]) -> Wrong:
    """For a launcher that keeps running, the varying parts are in its requests."""
    location = ("run", "serve")
    for argument in flat(command):
        for name in OF_REQUESTS - OF_STANDING:
            if f"{{{name}}}" in argument:
                message = f"{{{name}}} changes with each request; move it to run.serve.request"
                yield ("run", "command"), message
    yield from _command(("run", "command"), flat(command), OF_REQUESTS | declared)
    yield from _command((*location, "request"), flat(serve.request), OF_REQUESTS | declared)
    yield from _pattern((*location, "done"), serve.done)
    if not serve.done:
        yield (*location, "done"), "'done' is empty; it must match the line that ends a response"


def _reading(bridge: Bridge) -> Wrong:
    read, command = bridge.read, " ".join(bridge.run.arguments)
    yield from _report(read, ("read",), command)
    for number, report in enumerate(read.also):
        yield from _report(report, ("read", "also", number), command)
        if not report.report:
            yield ("read", "also", number), "an additional report must be a file; set 'report'"
    alone = bridge.run.per == "test" or bridge.run.names.how == "files"
    if read.format == "exit" and not alone:
        message = (
            "with format 'exit', each start gives one outcome; "
            "set run.per = 'test' or run.names.how = 'files'"
        )
        yield ("read", "format"), message
    yield from _template(("read", "test"), read.test, NAMING)


def _report(read: ReportTable, location: Location, command: str) -> Wrong:
    """One report: its patterns, words and templates."""
    for key in ("passed", "failed", "skipped"):
        yield from _pattern((*location, key), getattr(read, key), "name")
    if read.format == "lines" and not (read.passed and read.failed):
        yield location, "format 'lines' needs the patterns 'passed' and 'failed'"
    yield from _pattern((*location, "ignore"), read.ignore)
    yield from _pattern((*location, "began"), read.began, "name")
    for key in ("section", "section_end"):
        yield from _section((*location, key), getattr(read, key))
    known = [*map(str, Outcome), BEGAN]
    for word, outcome in read.outcomes.items():
        if outcome not in known:
            message = f"'{outcome}' is not an outcome; {did_you_mean(outcome, known)}"
            yield (*location, "outcomes", word), message
    yield from _template((*location, "name"), read.name, OF_ENTRIES)
    yield from _pattern((*location, "part"), read.part, "test", "part")
    if "{scratch}" in read.report and not re.search(r"\{(report|scratch)\}", command):
        message = (
            f"no argument contains {{report}} or {{scratch}}, "
            f"although {'.'.join(map(str, location))}.report"
        )
        yield ("run", "command"), f"{message} is set"


def _command(location: Location, command: list[str], known: frozenset[str]) -> Wrong:
    if not command:
        yield location, f"'{'.'.join(map(str, location))}' is empty"
    for argument in command:
        yield from _template(location, argument, known)


def _pattern(location: Location, text: str, *needed: str) -> Wrong:
    try:
        groups = re.compile(text).groupindex
    except re.error as error:
        yield location, f"not a regular expression: {error}"
        return
    if text:
        for group in needed:
            if group not in groups:
                yield location, f"the expression needs a group (?P<{group}>...)"


def _section(location: Location, text: str) -> Wrong:
    wrong = list(_pattern(location, text))
    yield from wrong
    if text and not wrong and not OF_SECTIONS & re.compile(text).groupindex.keys():
        names = ", ".join(f"(?P<{name}>...)" for name in sorted(OF_SECTIONS))
        yield location, f"the expression needs one of these groups: {names}"


def _template(location: Location, text: str, known: frozenset[str]) -> Wrong:
    try:
        named = [name for _, name, _, _ in string.Formatter().parse(text) if name is not None]
    except ValueError as error:
        yield location, f"'{text}': {error}"
        return
    for name in named:
        if name not in known:
            hint = did_you_mean(f"{{{name}}}", [f"{{{word}}}" for word in known])
            yield location, f"'{text}': unknown placeholder {{{name}}}; {hint}"
