"""Write CTRF: a common format of test reports as JSON, https://ctrf.io."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from datetime import datetime
from typing import Any

import msgspec

from wolfbane.formats.run_facts import RunFacts
from wolfbane.model import Evidence, Outcome, Result

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

    The status of failed quarantined tests is ``other``.
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
            **_environment(run.system),
        },
    }


def _environment(system: Mapping[str, str]) -> dict[str, Any]:
    names = {"commit": "commit", "version": "appVersion", "environment": "testEnvironment"}
    environment: dict[str, Any] = {names[key]: system[key] for key in names if key in system}
    if "revision" in system:
        environment["extra"] = {"revision": system["revision"]}
    if environment:
        return {"environment": environment}
    return {}


def _test(result: Result, reason: str | None) -> dict[str, Any]:
    entry: dict[str, Any] = {
        "name": result.address,
        "status": _STATUSES[result.outcome],
        "duration": round(result.seconds * 1000),
        "suite": result.suite,
        "rawStatus": str(result.outcome),
        "type": result.kind,
        "filePath": result.path,
        "flaky": result.outcome is Outcome.FLAKY,
        "retries": 0 if result.repeated else len(result.earlier),
    }
    extra: dict[str, Any] = {}
    if result.repeated:
        extra["repeated"] = msgspec.to_builtins(result.repeated)
    if reason is not None:
        extra["quarantined"] = reason
        entry["status"] = "other" if entry["status"] == "failed" else entry["status"]
    if extra:
        entry["extra"] = extra
    if result.message:
        entry["message"] = result.message
    if result.trace:
        entry["trace"] = result.trace
    if result.frames:
        entry["line"] = result.frames[-1].line
    if result.tags:
        entry["tags"] = list(result.tags)
    if result.browser:
        entry["browser"] = result.browser
    if result.output:
        entry["stdout"] = result.output.splitlines()
    if result.parts:
        entry["steps"] = [
            {"name": part.name, "status": _STATUSES[part.outcome]} for part in result.parts
        ]
    if result.evidence:
        entry["attachments"] = [_attachment(kept) for kept in result.evidence]
    return entry


def _attachment(kept: Evidence) -> dict[str, str]:
    content_type = _TYPES.get(kept.kind, "text/plain")
    return {"name": kept.kind, "contentType": content_type, "path": kept.path}


_TYPES = {
    "screenshot": "image/png",
    "picture": "image/png",
    "filmstrip": "image/webp",
    "page": "text/html",
    "har": "application/json",
    "replay": "application/json",
}
