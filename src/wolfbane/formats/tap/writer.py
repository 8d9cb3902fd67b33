"""Write TAP 14: https://testanything.org/tap-version-14-specification.html."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import yaml

from wolfbane.formats.run_facts import RunFacts
from wolfbane.model import Outcome, Part, Result

_DIRECTIVES = {Outcome.SKIPPED: "SKIP", Outcome.TODO: "TODO"}
_GOOD = frozenset({Outcome.PASSED, Outcome.FLAKY, Outcome.SKIPPED})


def write_tap(run: RunFacts) -> bytes:
    """The document, UTF-8: parts as subtests, all other data as YAML diagnostics.

    Quarantined tests that failed are TODO, so that they do not fail the run in other programs.
    """
    lines = ["TAP version 14", f"1..{len(run.results)}"]
    for number, result in enumerate(run.results, 1):
        if result.parts:
            lines += [f"# Subtest: {_escaped(result.address)}", *_subtest(result.parts, 1)]
        line = _point(number, result.outcome, result.address, message=result.message)
        because = run.reasons.get(result.address)
        if because is not None and result.outcome not in (*_DIRECTIVES, *_GOOD):
            line += f" # TODO quarantined: {_escaped(because)}"
        lines.append(line)
        lines += _diagnostics(result, because)
    return ("\n".join(lines) + "\n").encode()


def _subtest(parts: Sequence[Part], depth: int) -> Iterable[str]:
    inset = "    " * depth
    yield f"{inset}1..{len(parts)}"
    for number, part in enumerate(parts, 1):
        if part.parts:
            yield f"{inset}# Subtest: {_escaped(part.name)}"
            yield from _subtest(part.parts, depth + 1)
        yield inset + _point(number, part.outcome, part.name, message=part.message)


def _point(number: int, outcome: Outcome, name: str, message: str) -> str:
    good = "not ok"
    if outcome in _GOOD:
        good = "ok"
    line = f"{good} {number} - {_escaped(name)}"
    if outcome in _DIRECTIVES:
        first = _escaped(message.partition("\n")[0])
        line += f" # {_DIRECTIVES[outcome]} {first}".rstrip()
    return line


def _diagnostics(result: Result, because: str | None) -> list[str]:
    details: dict[str, object] = {"outcome": str(result.outcome)}
    details["duration_ms"] = round(result.seconds * 1000, 3)
    if result.message and result.outcome is not Outcome.SKIPPED:
        details["message"] = result.message
    if result.frames:
        last = result.frames[-1]
        details["at"] = {"file": last.file, "line": last.line}
    if because is not None:
        details["quarantined"] = because
    if result.tags:
        details["tags"] = list(result.tags)
    if result.earlier:
        details["attempts"] = [str(attempt.outcome) for attempt in result.earlier]
    text = yaml.safe_dump(details, sort_keys=False, allow_unicode=False, width=1000)
    return ["  ---", *(f"  {line}" for line in text.splitlines()), "  ..."]


def _escaped(text: str) -> str:
    """A description: one line, in which no ``#`` starts a directive."""
    line = text.replace("\\", "\\\\").replace("#", "\\#")
    return "".join(c if c.isprintable() else f"\\x{ord(c):02x}" for c in line)
