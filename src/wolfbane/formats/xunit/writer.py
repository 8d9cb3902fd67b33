"""Write xUnit-style XML: ``testsuites``, ``testsuite``, ``testcase``, as CI servers read it."""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Sequence
from itertools import groupby
from xml.etree import ElementTree

from wolfbane.formats.run_facts import RunFacts
from wolfbane.model import Outcome, Part, Result, variant

# Production [2] of XML 1.0, https://www.w3.org/TR/xml/#charsets
_NOT_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
_ERRORS = (Outcome.ERRORED, Outcome.CRASHED, Outcome.TIMED_OUT, Outcome.BLOCKED)
_BAD = (Outcome.FAILED, *_ERRORS)


def write_xunit(run: RunFacts) -> bytes:
    """The document, UTF-8. Durations are in seconds.

    Failed quarantined tests are written as skipped, with their outcome as the property ``outcome``,
    so that a CI server does not fail because of them.
    """
    reasons, began = run.reasons, run.began
    totals = _totals(run.results, reasons)
    root = ElementTree.Element("testsuites", {"name": _clean(run.name), **totals})
    by_suite = sorted(run.results, key=lambda result: result.suite)
    for suite, own in groupby(by_suite, key=lambda result: result.suite):
        members = list(own)
        element = ElementTree.SubElement(
            root,
            "testsuite",
            {"name": _clean(suite), "timestamp": began, **_totals(members, reasons)},
        )
        _properties(element, run.system.items())
        for result in members:
            _case(element, result, reasons.get(result.address))
    ElementTree.indent(root, " ")
    text: bytes = ElementTree.tostring(root, encoding="utf-8", xml_declaration=True)
    return text + b"\n"


def _totals(results: Sequence[Result], apart: Container[str]) -> dict[str, str]:
    counted = [r for r in results if r.address not in apart or r.outcome not in _BAD]
    skipped = sum(1 for r in counted if r.outcome in (Outcome.SKIPPED, Outcome.TODO))
    return {
        "tests": str(len(results)),
        "failures": str(sum(1 for r in counted if r.outcome is Outcome.FAILED)),
        "errors": str(sum(1 for r in counted if r.outcome in _ERRORS)),
        "skipped": str(skipped + len(results) - len(counted)),
        "time": f"{sum(r.seconds for r in results):.6f}",
    }


def _case(suite: ElementTree.Element, result: Result, reason: str | None) -> None:
    name = result.name or result.path.rpartition("/")[2]
    case = ElementTree.SubElement(
        suite,
        "testcase",
        classname=_clean(result.path),
        # Servers take cases with the same class and name for one test.
        name=_clean(variant(name, result.browser, result.target)),
        file=_clean(result.path),
        time=f"{result.seconds:.6f}",
    )
    plain = result.name and result.address == f"{result.path}#{result.name}"
    if plain:
        pairs = []
    else:
        pairs = [("address", result.address)]
    pairs += [("tag", tag) for tag in result.tags]
    pairs += [(f"attempt {e.attempt}", f"{e.outcome}: {e.message}".strip()) for e in result.earlier]
    if reason is not None:
        pairs += [("quarantined", reason), ("outcome", str(result.outcome))]
    if repeated := result.repeated:
        pairs.append(("repeated", f"{repeated.passed} of {repeated.runs} runs passed"))
    _properties(case, pairs)
    first = _clean(result.message).partition("\n")[0]
    detail = _clean("\n".join(filter(None, [result.trace or result.message, *_bad(result.parts)])))
    if reason is not None and result.outcome in _BAD:
        message = _clean(f"quarantined ({reason}): {result.outcome} {first}".strip())
        ElementTree.SubElement(case, "skipped", message=message).text = detail
    elif result.outcome is Outcome.FAILED:
        ElementTree.SubElement(case, "failure", message=first, type="failed").text = detail
    elif result.outcome in _ERRORS:
        kind = str(result.outcome)
        ElementTree.SubElement(case, "error", message=first, type=kind).text = detail
    elif result.outcome in (Outcome.SKIPPED, Outcome.TODO):
        if result.outcome is Outcome.TODO:
            reason = f"todo: {first}"
        else:
            reason = first
        ElementTree.SubElement(case, "skipped", message=reason)
    if result.output:
        ElementTree.SubElement(case, "system-out").text = _clean(result.output)


def _properties(parent: ElementTree.Element, pairs: Iterable[tuple[str, str]]) -> None:
    if known := list(pairs):
        properties = ElementTree.SubElement(parent, "properties")
        for name, value in known:
            ElementTree.SubElement(properties, "property", name=name, value=_clean(value))


def _bad(parts: Iterable[Part]) -> list[str]:
    return [f"{p.outcome}: {p.name}" for p in parts if p.outcome.is_bad]


def _clean(text: str) -> str:
    return _NOT_XML.sub(lambda match: f"\\x{ord(match[0]):02x}", text)
