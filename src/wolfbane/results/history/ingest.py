"""Adds the records of runs to the history."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec

from wolfbane.model import LIMITS, at
from wolfbane.results.history.entries import RunEntry, TestEnd, with_quarantined
from wolfbane.results.history.store import Store
from wolfbane.results.journal import JOURNAL_NAME


def take_in_runs(store: Store, results: Path) -> list[str]:
    """Add every recorded run that the history does not have yet; returns the unreadable ones."""
    journals = {
        journal.parent.name: journal
        for journal in sorted((results / "runs").glob(f"*/{JOURNAL_NAME}"))
    }
    missing = journals.keys() - store.names()
    if missing and store.claim("", missing):  # from before runs belonged to a workspace
        missing = journals.keys() - store.names()
    problems = []
    for name in sorted(missing):
        journal = journals[name]
        try:
            taken = _read(journal)
        except (OSError, msgspec.DecodeError, ValueError, KeyError, TypeError) as error:
            problems.append(f"cannot read run {name}: {error}")
            continue
        if taken is not None:
            store.add(*taken)
    return problems


def _read(journal: Path) -> tuple[RunEntry, list[TestEnd]] | None:
    """The record from a journal; None while its run is in progress, or if it was interrupted."""
    started: dict[str, Any] = {}
    finished: dict[str, Any] = {}
    results = []
    for line in journal.read_bytes().split(b"\n")[:-1]:
        if b'"type":"test-finished"' in line:
            results.append(msgspec.json.decode(line)["result"])
        elif b'"type":"run-started"' in line:
            started = msgspec.json.decode(line)
        elif b'"type":"run-finished"' in line:
            finished = msgspec.json.decode(line)
    if not started or not finished:
        return None
    tests = [result for result in results if result["path"] != LIMITS]
    return entry_of(started, finished), [ended_of(result, started) for result in tests]


def entry_of(started: dict[str, Any], finished: dict[str, Any]) -> RunEntry:
    """A run, from its first and its last event. Raises KeyError and TypeError."""
    targets, state = started.get("targets", ()), started.get("suite_state", {})
    labels = [t["label"] or t["environment"] for t in targets]
    return RunEntry(
        name=started["run"],
        began=started["began"],
        seconds=finished["seconds"],
        exit_code=finished["exit_code"],
        counts=with_quarantined(finished["counts"], sum(finished.get("quarantined", {}).values())),
        target=",".join(filter(None, labels)),
        command=started["command"],
        expression=started["expression"],
        origin=_origin(started.get("share")),
        reason=finished.get("reason", ""),
        revision=state.get("revision", ""),
        commit_hash=state.get("commit", ""),
        changed=state.get("changed", False),
        version=", ".join(filter(None, (t.get("version", "") for t in targets))),
    )


def _origin(share: dict[str, Any] | None) -> str:
    if share:
        return f"share {share['number']} of {share['of']}"
    return "run"


def ended_of(result: dict[str, Any], started: dict[str, Any]) -> TestEnd:
    """The end of a test, from its result and its run's start. Raises KeyError and TypeError."""
    environment = result.get("target") or result.get("environment") or _only_one(started)
    if result.get("target"):
        whole = result["address"]
    else:
        whole = at(result["address"], environment)
    return TestEnd(
        address=whole,
        suite=result["suite"],
        outcome=result["outcome"],
        seconds=result["seconds"],
        attempts=result.get("attempt", 1),
        message=result["message"].partition("\n")[0],
        environment=environment,
        quarantined=result["address"] in started.get("quarantined", ()),
    )


def _only_one(started: dict[str, Any]) -> str:
    """The environment of a run with one, for results from before environments were recorded."""
    targets = started.get("targets", ())
    return targets[0]["environment"] if len(targets) == 1 else ""
