"""Take the records of runs into the history."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import orjson

from wolfbane.results.journal import JOURNAL_NAME
from wolfbane.results.record import Record
from wolfbane.results.store import Ended, RunEntry, Store


def take_in_runs(store: Store, results: Path) -> list[str]:
    """Take in every recorded run that the history does not have yet; what could not be read."""
    known = store.names()
    problems = []
    for journal in sorted((results / "runs").glob(f"*/{JOURNAL_NAME}")):
        name = journal.parent.name
        if name in known:
            continue
        try:
            taken = _read(journal)
        except (OSError, ValueError, KeyError, TypeError) as error:
            problems.append(f"run {name} cannot be read: {error}")
            continue
        if taken is not None:
            store.add(*taken)
    return problems


def _read(journal: Path) -> tuple[RunEntry, list[Ended]] | None:
    """What a journal comes to; None while its run goes on, or where it was cut off."""
    started: dict[str, Any] = {}
    finished: dict[str, Any] = {}
    ended = []
    for line in journal.read_bytes().split(b"\n")[:-1]:
        if b'"type":"test-finished"' in line:
            ended.append(_ended(orjson.loads(line)["result"]))
        elif b'"type":"run-started"' in line:
            started = orjson.loads(line)
        elif b'"type":"run-finished"' in line:
            finished = orjson.loads(line)
    if not started or not finished:
        return None
    return _entry(started, finished), ended


def _entry(started: dict[str, Any], finished: dict[str, Any]) -> RunEntry:
    labels = [t["label"] or t["environment"] for t in started.get("targets", ())]
    return RunEntry(
        name=started["run"],
        began=started["began"],
        seconds=finished["seconds"],
        exit_code=finished["exit_code"],
        counts=finished["counts"],
        target=",".join(filter(None, labels)),
        command=started["command"],
        expression=started["expression"],
    )


def _ended(result: dict[str, Any]) -> Ended:
    return Ended(
        result["address"], result["suite"], result["outcome"], result["seconds"],
        result.get("attempt", 1), result["message"].partition("\n")[0],
    )  # fmt: skip


def take_in(store: Store, record: Record) -> bool:
    """Take in the record of a run that has just ended."""
    if record.started is None or record.finished is None:
        return False
    started, finished = record.started, record.finished
    labels = [t.label or t.environment for t in started.targets]
    entry = RunEntry(
        started.run, started.began, finished.seconds, finished.exit_code, finished.counts,
        ",".join(filter(None, labels)), started.command, started.expression,
    )  # fmt: skip
    return store.add(entry, list(_of(record)))


def _of(record: Record) -> Iterator[Ended]:
    for r in record.results:
        message = r.message.partition("\n")[0]
        yield Ended(r.address, r.suite, str(r.outcome), r.seconds, r.attempt, message)
