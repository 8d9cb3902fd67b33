"""Combines the records of all shares into one run."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from msgspec.structs import replace

from wolfbane.app.run import RunEnd
from wolfbane.app.share_records import ShareRecord, check_alike
from wolfbane.events.run_events import (
    Covered,
    Event,
    EventListener,
    RunFinished,
    RunStarted,
    TestFinished,
    TestRepeated,
    TestRetried,
)
from wolfbane.execution.verdict import Tally, by_name, verdict
from wolfbane.model import Result
from wolfbane.results.foreign import MOST_UNPACKED, read_evidence
from wolfbane.results.journal import Journal
from wolfbane.results.newest import Newest
from wolfbane.results.record import RecordKeeper
from wolfbane.results.runs import new_run
from wolfbane.workspace.settings import Workspace

COMMAND = "wolfbane join"


def join_runs(
    workspace: Workspace, shares: Sequence[ShareRecord], listeners: Sequence[EventListener]
) -> RunEnd:
    """Record one run with the results of all shares, and send its events to listeners.

    If a share was run twice, the newer record is used. Raises InputError for records that are not
    shares of one plan.
    """
    newest = {share.facts.number: share for share in sorted(shares, key=lambda s: s.began)}
    kept = [newest[number] for number in sorted(newest)]
    check_alike(kept)
    folder = new_run(workspace.results)
    keeper = RecordKeeper(folder)
    outcomes = Newest(workspace.results)
    with Journal(folder) as journal:
        everybody: list[EventListener] = [keeper, journal, *listeners]
        for event in _events(kept, folder):
            for listener in everybody:
                listener(event)
    keeper.write_summary()
    outcomes.take_in(keeper.record.results)
    finished = keeper.record.finished
    assert finished is not None
    troubles = (f"the record is incomplete: {journal.trouble}",) if journal.trouble else ()
    return RunEnd(finished.exit_code, keeper.record, troubles)


def missing_shares(shares: Sequence[ShareRecord]) -> list[int]:
    """The numbers of missing shares. Empty shares have no record, and do not count as missing."""
    facts = shares[0].facts
    tests = sum(share.planned for share in shares)
    if tests >= facts.whole:
        return []
    return sorted(set(range(1, facts.of + 1)) - {share.facts.number for share in shares})


def _events(shares: Sequence[ShareRecord], folder: Path) -> Iterator[Event]:
    """The events that the complete run would have sent, share after share."""
    yield _started(shares, folder.name)
    workers = 0
    for share in shares:
        move = _Moving(share, folder, workers)
        for event in share.events:
            if isinstance(event, TestFinished | TestRetried | TestRepeated):
                yield replace(event, result=move.result(event.result))
        workers += share.started.jobs
    yield from _covered(event for share in shares for event in share.events)
    yield _finished(shares)


class _Moving:
    """The results of a share as results of the complete run, with copied evidence and new worker
    numbers.
    """

    def __init__(self, share: ShareRecord, folder: Path, workers: int) -> None:
        self._share, self._folder, self._workers = share, folder, workers

    def result(self, result: Result) -> Result:
        evidence = tuple(replace(kept, path=self._copied(kept.path)) for kept in result.evidence)
        worker = 0
        if result.worker:
            worker = result.worker + self._workers
        earlier = tuple(self.result(each) for each in result.earlier)
        return replace(result, evidence=evidence, worker=worker, earlier=earlier)

    def _copied(self, path: str) -> str:
        inside = Path(path)
        numbered = inside.with_name(f"{self._share.facts.number}-{inside.name}")
        target = self._folder / numbered
        if not target.exists():
            try:
                content = read_evidence(self._share.folder, path, MOST_UNPACKED)
                if content is not None:
                    target.parent.mkdir(parents=True, exist_ok=True)
                    target.write_bytes(content)
            except OSError:
                return numbered.as_posix()  # it names nothing, as in the share's own record
        return numbered.as_posix()


def _started(shares: Sequence[ShareRecord], run: str) -> RunStarted:
    """The start of the complete run: counts are added, the rest comes from the first share."""
    starts = [share.started for share in shares]
    first = starts[0]
    return replace(
        first,
        run=run,
        began=min(each.began for each in starts),
        command=COMMAND,
        share=None,
        tests=sum(each.tests for each in starts),
        files=_added(each.files for each in starts),
        suites=_added(each.suites for each in starts),
        jobs=sum(each.jobs for each in starts),
        runtimes={name: version for each in starts for name, version in each.runtimes.items()},
        pulled_in={name: by for each in starts for name, by in each.pulled_in.items()},
        browsers=_union(each.browsers for each in starts),
        quarantined={a: entry for each in starts for a, entry in each.quarantined.items()},
        neglected=tuple(n for n in first.neglected if not any(n in s.suites for s in starts)),
        focused=_union(each.focused for each in starts),
        warnings=_union(each.warnings for each in starts),
        without_tests=_union(each.without_tests for each in starts),
        arguments=_without_share(first.arguments),
        chosen=_union(each.chosen for each in starts),
    )


def _finished(shares: Sequence[ShareRecord]) -> RunFinished:
    """The end of the complete run: the exit code that a single run would have."""
    starts, ends = [s.started for s in shares], [s.finished for s in shares if s.finished]
    quarantined = {address: e for each in starts for address, e in each.quarantined.items()}
    results = [result for share in shares for result in share.results]
    tally = Tally()
    for result in results:
        tally.add(result, quarantined=result.address in quarantined)
    missing = missing_shares(shares)
    cut_off = [share.facts.number for share in shares if share.finished is None]
    unrun = sum(each.unrun for each in ends)
    unrun += shares[0].facts.whole - sum(share.planned for share in shares)
    unrun += sum(s.planned - len(s.results) for s in shares if s.finished is None)
    code, reason = verdict(
        tally,
        quarantined,
        None,
        unrun,
        focused=any(each.reason.startswith("focus") for each in ends),
        flaky_fails=any("--flaky-fails" in each.reason for each in ends),
        warnings_fail=any("--warnings-fail" in each.reason for each in ends),
        interrupted=any(each.exit_code == 130 for each in ends),
    )
    reasons = [_named("missing", missing, shares), _named("interrupted", cut_off, shares), reason]
    reasons += [each.reason for each in ends if each.unrun]
    if (missing or cut_off or unrun) and code in (0, 3, 4):
        code = 1
    return RunFinished(
        seconds=max((each.seconds for each in ends), default=0.0),
        exit_code=code,
        counts=by_name(tally.tests),
        unrun=unrun,
        reason="; ".join(dict.fromkeys(filter(None, reasons))),
        warnings=_union(each.warnings for each in ends),
        browsers={name: version for each in ends for name, version in each.browsers.items()},
        quarantined=by_name(tally.quarantined),
        lately={address: version for each in ends for address, version in each.lately.items()},
    )


def _named(what: str, numbers: Sequence[int], shares: Sequence[ShareRecord]) -> str:
    if not numbers:
        return ""
    names = ", ".join(map(str, numbers))
    noun, verb = ("share", "is") if len(numbers) == 1 else ("shares", "are")
    verb = verb if what == "missing" else {"is": "was", "are": "were"}[verb]
    return f"{noun} {names} of {shares[0].facts.of} {verb} {what}"


def _covered(events: Iterable[Event]) -> Iterator[Covered]:
    """The API operations that all shares called in total, and those that no share called."""
    by_source: dict[str, list[Covered]] = {}
    for event in events:
        if isinstance(event, Covered):
            by_source.setdefault(event.source, []).append(event)
    for source, covered in by_source.items():
        counts: Counter[tuple[str, str, str]] = Counter()
        for each in covered:
            for operation, status, media, count in each.exercised:
                counts[operation, status, media] += count
        called = {operation for operation, _, _ in counts}
        missing = [name for name in covered[0].missing if name not in called]
        yield Covered(source, tuple((*key, n) for key, n in counts.items()), tuple(missing))


def _added(counts: Iterable[dict[str, int]]) -> dict[str, int]:
    whole: Counter[str] = Counter()
    for each in counts:
        whole.update(each)
    return dict(whole)


def _union(groups: Iterable[Iterable[str]]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(each for group in groups for each in group))


def _without_share(arguments: Sequence[str]) -> tuple[str, ...]:
    """The typed arguments, for a run of all shares."""
    kept: list[str] = []
    skip = False
    for word in arguments:
        if skip:
            skip = False
        elif word == "--share":
            skip = True
        elif not word.startswith("--share="):
            kept.append(word)
    return tuple(kept)
