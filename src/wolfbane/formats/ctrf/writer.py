"""Write CTRF: a common format of test reports as JSON, https://ctrf.io."""

from __future__ import annotations

from collections import Counter
from datetime import datetime
from typing import Any

import msgspec

from wolfbane.formats.run_facts import RunFacts
from wolfbane.model import Outcome, Result

_STATUSES = {
    Outcome.PASSED: "passed",
    Outcome.FLAKY: "passed",
    Outcome.FAILED: "failed",
    Outcome.ERRORED: "failed",
    Outcome.TIMED_OUT: "failed",
    Outcome.CRASHED: "failed",
    Outcome.BLOCKED: "other",
    Outcome.SKIPPED: "skipped",
    Outcome.TODO: "pending",
}


def write_ctrf(run: RunFacts) -> bytes:
    """The document, UTF-8. Times in it are milliseconds.

    Where quarantined tests failed, their status is ``other``.
    """
    return msgspec.json.format(msgspec.json.encode(_document(run)), indent=2) + b"\n"


def _document(run: RunFacts) -> dict[str, Any]:
    start = round(datetime.fromisoformat(run.began).timestamp() * 1000)
    tests = [_test(result, run.reasons.get(result.address)) for result in run.results]
    counts = Counter(test["status"] for test in tests)
    summary = {"tests": len(run.results)}
    summary |= {name: counts[name] for name in ("passed", "failed", "pending", "skipped", "other")}
    summary |= {"start": start, "stop": start + round(run.seconds * 1000)}
    return {
        "reportFormat": "CTRF",
        "specVersion": "0.0.0",
        "results": {
            "tool": {"name": "Wolfbane", "version": run.version},
            "summary": summary,
            "tests": tests,
        },
    }


def _test(result: Result, reason: str | None) -> dict[str, Any]:
    told: dict[str, Any] = {
        "name": result.address,
        "status": _STATUSES[result.outcome],
        "duration": round(result.seconds * 1000),
        "suite": result.suite,
        "rawStatus": str(result.outcome),
        "type": result.kind,
        "filePath": result.path,
        "flaky": result.outcome is Outcome.FLAKY,
        "retries": len(result.earlier),
    }
    if reason is not None:
        told["extra"] = {"quarantined": reason}
        told["status"] = "other" if told["status"] == "failed" else told["status"]
    if result.message:
        told["message"] = result.message
    if result.trace:
        told["trace"] = result.trace
    if result.frames:
        told["line"] = result.frames[-1].line
    if result.tags:
        told["tags"] = list(result.tags)
    if result.browser:
        told["browser"] = result.browser
    if result.output:
        told["stdout"] = result.output.splitlines()
    if result.parts:
        told["steps"] = [
            {"name": part.name, "status": _STATUSES[part.outcome]} for part in result.parts
        ]
    if result.evidence:
        told["attachments"] = [
            {"name": kept.kind, "contentType": _TYPES.get(kept.kind, "text/plain"),
             "path": kept.path}
            for kept in result.evidence
        ]  # fmt: skip
    return told


_TYPES = {
    "screenshot": "image/png", "filmstrip": "image/gif", "page": "text/html",
    "har": "application/json",
}  # fmt: skip
