"""Reads the records of shares from folders and archives, and checks that they belong together."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path

import msgspec

from wolfbane.errors import InputError, Problem
from wolfbane.events.run_events import Event, RunFinished, RunStarted, ShareFacts, TestFinished
from wolfbane.model import Result
from wolfbane.results.foreign import unpack
from wolfbane.results.journal import JOURNAL_NAME, read_journal
from wolfbane.workspace.git import SHORT

_ARCHIVES = (".tar.gz", ".tgz")
_MOST_NAMED = 3
_PORT = re.compile(r"(?<=127\.0\.0\.1:)\d+|(?<=localhost:)\d+")


class ShareRecord(msgspec.Struct, frozen=True, dict=True):
    """The record of a share.

    ``source`` is the path that the user gave; ``folder`` contains the journal.
    """

    source: str
    folder: Path
    started: RunStarted
    facts: ShareFacts
    events: Sequence[Event]

    @property
    def began(self) -> str:
        """The start of the run as an ISO 8601 time."""
        return self.started.began

    @cached_property
    def results(self) -> list[Result]:
        """The results of its tests."""
        return [event.result for event in self.events if isinstance(event, TestFinished)]

    @cached_property
    def planned(self) -> int:
        """The number of tests in the complete plan."""
        return self.started.tests

    @cached_property
    def finished(self) -> RunFinished | None:
        """The end of the run; None if it was interrupted."""
        return next((e for e in self.events if isinstance(e, RunFinished)), None)


def read_shares(places: Sequence[Path], scratch: Path) -> list[ShareRecord]:
    """The shares in folders of runs, in archives, and in folders that contain these.

    Archives are unpacked below ``scratch``. Raises InputError that lists everything that is not a
    share.
    """
    records, problems = [], []
    for source in places:
        try:
            folders = list(_folders(source, scratch))
            if not folders:
                problems.append(Problem("it contains no record of a run", str(source)))
            records += [_read(source, folder) for folder in folders]
        except InputError as error:
            problems += error.problems
    if problems:
        raise InputError(*problems)
    return records


def _folders(source: Path, scratch: Path) -> Iterator[Path]:
    """The folders of runs that a path means."""
    if source.name.endswith(_ARCHIVES):
        yield _unpacked(source, scratch)
    elif (source / JOURNAL_NAME).is_file():
        yield source
    elif source.is_dir():
        for journal in sorted(source.rglob(JOURNAL_NAME)):
            yield journal.parent
        for ending in _ARCHIVES:
            for archive in sorted(source.rglob(f"*{ending}")):
                yield _unpacked(archive, scratch)
    elif source.exists():
        hint = "create an archive with: wolfbane report --as record --to share.tar.gz"
        raise InputError(
            Problem("it is neither the folder nor an archive of a run", str(source), hint=hint)
        )
    else:
        raise InputError(Problem("there is no such folder or file", str(source)))


def _unpacked(archive: Path, scratch: Path) -> Path:
    folder = scratch / f"{len(list(scratch.iterdir()))}"
    unpack(archive, folder)
    journal = next(iter(sorted(folder.rglob(JOURNAL_NAME))), None)
    if journal is None:
        raise InputError(Problem("it contains no record of a run", str(archive)))
    return journal.parent


def _read(source: Path, folder: Path) -> ShareRecord:
    events = list(read_journal(folder))
    started = next((event for event in events if isinstance(event, RunStarted)), None)
    if started is None:
        raise InputError(Problem("the run was stopped before it started", str(source)))
    if started.share is None:
        hint = "run a share with, for example, --share 1/2"
        raise InputError(Problem(f"run {started.run} is not a share", str(source), hint=hint))
    return ShareRecord(
        source=str(source), folder=folder, started=started, facts=started.share, events=events
    )


def check_alike(shares: Sequence[ShareRecord]) -> None:
    """Raise InputError, with every difference, unless these are shares of one plan."""
    if not shares:
        raise InputError("no shares to join were found")
    first = shares[0]
    problems = [
        Problem(f"share {share.facts.number} {message}", share.source)
        for share in shares[1:]
        for message in _differences(first, share)
    ]
    if problems:
        raise InputError(*problems)


def _differences(first: ShareRecord, share: ShareRecord) -> Iterator[str]:
    """The reasons, as texts, why two records are not shares of one plan."""
    one, other = first.facts, share.facts
    number = f"share {one.number}"
    if one.of != other.of:
        yield f"is one of {other.of} shares, but {number} is one of {one.of} shares"
    start, own = first.started, share.started
    if (start.expression, start.leave_out) != (own.expression, own.leave_out):
        yield f"has another selection: {own.expression}; {number} has {start.expression}"
    places = [[t.label or t.environment for t in s.targets] for s in (start, own)]
    if places[0] != places[1]:
        theirs, ours = (", ".join(filter(None, names)) or "none" for names in places)
        yield f"has another environment: {ours}; {number} has {theirs}"
    values = [_parameters(s) for s in (start, own)]
    if places[0] == places[1] and values[0] != values[1]:
        yield f"has other parameters: {values[1]}; {number} has {values[0]}"
    commits = [s.suite_state.commit for s in (start, own)]
    if commits[0] != commits[1]:
        theirs, ours = (commit[:SHORT] or "none" for commit in commits)
        yield f"has another commit: {ours}; {number} has {theirs}"
    elif one.sources != other.sources:
        every = sorted({*one.sources, *other.sources})
        named = [path for path in every if one.sources.get(path) != other.sources.get(path)]
        more = ""
        if len(named) > _MOST_NAMED:
            more = ", ..."
        message = ", ".join(named[:_MOST_NAMED])
        yield f"has other sources: these files differ from those of {number}: {message}{more}"
    elif one.plan != other.plan:
        yield f"has another plan: its tests differ from the tests of {number}"
    elif one.figures != other.figures:
        yield (
            f"was divided by other figures ({other.cut_by}) than {number} ({one.cut_by}), "
            f"so some tests may be in two shares or in no share"
        )


def _parameters(started: RunStarted) -> str:
    """The parameters of each environment, without the ports of services that the run started."""
    each = (
        ", ".join(f"{name}={_PORT.sub('PORT', value)}" for name, value in t.parameters.items())
        for t in started.targets
    )
    return "; ".join(each) or "none"
