"""What is wrong with the meaning of a bridge: ways of finding, patterns, placeholders."""

from __future__ import annotations

import re
import string
from collections.abc import Iterable, Iterator

from wolfbane.errors import did_you_mean
from wolfbane.kinds.bridge.tables import TOGETHER, Bridge, Find, Listing, Run
from wolfbane.model import Outcome
from wolfbane.toml_lines import Location

Wrong = Iterator[tuple[Location, str]]
NAMING = frozenset({"name", "group", "file", "folder", "stem", "module"})
OF_ENTRIES = frozenset({"name", "group", "suite", "file"})
OF_LISTINGS = frozenset({"file", "scratch", "root"})
OF_COMMANDS = frozenset({"file", "files", "names", "report", "scratch", "root", "browser", "extra"})


def wrong_meaning(bridge: Bridge, parameters: Iterable[str]) -> Wrong:
    """Every place of a bridge whose shape is right, and whose meaning is not."""
    declared = frozenset(f"param.{name}" for name in parameters)
    yield from _finding(bridge.find, whole_files=bridge.run.names.how == "files")
    if bridge.find.listing:
        yield from _listing(bridge.find.listing, declared)
    yield from _running(bridge.run, declared)
    yield from _reading(bridge)


def _finding(find: Find, *, whole_files: bool) -> Wrong:
    ways = [way for way in (find.lines, find.query, find.listing) if way is not None]
    if len(ways) != 1 and not (whole_files and not ways):
        yield ("find",), "say one way to find tests: lines, query or listing"
    elif whole_files and find.listing:
        words = "a listing finds tests, but with run.names.how = 'files' a file is the test"
        yield ("find", "listing"), words
    if find.lines:
        for key in ("test", "group", "tag", "end"):
            text = getattr(find.lines, key)
            groups = ["name"] if key in ("test", "group") else []
            yield from _pattern(("find", "lines", key), text, *groups)


def _listing(listing: Listing, declared: frozenset[str]) -> Wrong:
    place = ("find", "listing")
    yield from _pattern((*place, "pattern"), listing.pattern, "name")
    yield from _command((*place, "command"), listing.command, OF_LISTINGS | declared)
    if listing.format == "json":
        from jsonpath_rfc9535 import JSONPathError
        from jsonpath_rfc9535 import compile as compile_path

        try:
            compile_path(listing.items)
        except JSONPathError as error:
            yield (*place, "items"), f"not a JSONPath: {str(error).partition(chr(10))[0]}"


def _running(run: Run, declared: frozenset[str]) -> Wrong:
    yield from _template(("run", "names", "name"), run.names.name, NAMING)
    yield from _command(("run", "command"), run.arguments, OF_COMMANDS | declared)
    command = " ".join(run.arguments)
    if run.command and not isinstance(run.command[0], str):
        yield ("run", "command"), "the first argument is the launcher itself: it stands alone"
    if run.names.how != "files" and "{names}" not in command:
        yield ("run", "command"), "no argument is {names}: the launcher is not told what to run"
    if run.per in TOGETHER and "{file}" in command:
        words = f"{{file}} is one file, but run.per is '{run.per}': write {{files}}"
        yield ("run", "command"), words
    if run.per in TOGETHER and run.names.how == "files":
        words = f"run.per is '{run.per}', but files are the unit: their reports would be mixed"
        yield ("run", "per"), words


def _reading(bridge: Bridge) -> Wrong:
    read, command = bridge.read, " ".join(bridge.run.arguments)
    for key in ("passed", "failed", "skipped"):
        yield from _pattern(("read", key), getattr(read, key), "name")
    if read.format == "lines" and not (read.passed and read.failed):
        yield ("read",), "format 'lines' needs the patterns 'passed' and 'failed'"
    yield from _pattern(("read", "ignore"), read.ignore)
    known = [str(outcome) for outcome in Outcome]
    for word, outcome in read.outcomes.items():
        if outcome not in known:
            words = f"'{outcome}' is no outcome; {did_you_mean(outcome, known)}"
            yield ("read", "outcomes", word), words
    alone = bridge.run.per == "test" or bridge.run.names.how == "files"
    if read.format == "exit" and not alone:
        words = "with format 'exit' each start has one outcome: run.per = 'test', or names 'files'"
        yield ("read", "format"), words
    yield from _template(("read", "name"), read.name, OF_ENTRIES)
    yield from _template(("read", "test"), read.test, NAMING)
    yield from _pattern(("read", "part"), read.part, "test", "part")
    if "{scratch}" in read.report and not re.search(r"\{(report|scratch)\}", command):
        yield ("run", "command"), "no argument has {report} or {scratch}, but read.report is there"


def _command(place: Location, command: list[str], known: frozenset[str]) -> Wrong:
    if not command:
        yield place, f"'{'.'.join(map(str, place))}' is empty"
    for argument in command:
        yield from _template(place, argument, known)


def _pattern(place: Location, text: str, *needed: str) -> Wrong:
    try:
        groups = re.compile(text).groupindex
    except re.error as error:
        yield place, f"not a regular expression: {error}"
        return
    for group in needed if text else ():
        if group not in groups:
            yield place, f"it needs a group (?P<{group}>...)"


def _template(place: Location, text: str, known: frozenset[str]) -> Wrong:
    try:
        named = [name for _, name, _, _ in string.Formatter().parse(text) if name is not None]
    except ValueError as error:
        yield place, f"'{text}': {error}"
        return
    for name in named:
        if name not in known:
            hint = did_you_mean(f"{{{name}}}", [f"{{{word}}}" for word in known])
            yield place, f"'{text}': there is no {{{name}}}; {hint}"
