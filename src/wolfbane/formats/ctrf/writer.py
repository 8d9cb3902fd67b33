"""Write CTRF: a common format of test reports as JSON, https://ctrf.io."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

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


def ctrf(
    results: Sequence[Result], began: str, seconds: float, version: str, held: Mapping[str, str]
) -> dict[str, Any]:
    """The document. ``began`` is an ISO 8601 time with a zone; times in it are milliseconds.

    ``held`` says why tests are quarantined, by address: where they failed, their status is other.
    """
    start = round(datetime.fromisoformat(began).timestamp() * 1000)
    tests = [_test(result, held.get(result.address)) for result in results]
    counts = Counter(test["status"] for test in tests)
    summary = {"tests": len(results)}
    summary |= {name: counts[name] for name in ("passed", "failed", "pending", "skipped", "other")}
    summary |= {"start": start, "stop": start + round(seconds * 1000)}
    return {
        "reportFormat": "CTRF",
        "specVersion": "0.0.0",
        "results": {
            "tool": {"name": "Wolfbane", "version": version},
            "summary": summary,
            "tests": tests,
        },
    }


def _test(result: Result, held: str | None) -> dict[str, Any]:
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
    if held is not None:
        told["extra"] = {"quarantined": held}
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
