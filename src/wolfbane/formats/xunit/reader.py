"""Read xUnit-style XML as launchers write it, in pieces, in little memory.

There is no standard. The reader supports: suites in suites; missing counts and times; properties as
attributes or text; ``system-out`` and ``system-err``; several failures of one case; attachments as
elements or as ``[[ATTACHMENT|path]]`` in the output; ``rerunFailure`` and ``flakyFailure`` elements
for attempts; a ``status`` for a case that did not run. A document type declaration is rejected,
which also prevents attacks with entities.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from xml.parsers import expat

from wolfbane.formats.reported import FormatError, ReportedTest, Text
from wolfbane.model import NESTED, Outcome

_SEVERITY = {"failure": Outcome.FAILED, "error": Outcome.ERRORED}
_ATTEMPTS = {
    "rerunfailure": Outcome.FAILED,
    "rerunerror": Outcome.ERRORED,
    "flakyfailure": Outcome.FAILED,
    "flakyerror": Outcome.ERRORED,
}
_NOT_RUN = frozenset({"notrun", "skipped", "disabled", "ignored", "suppressed"})
_BY_STATUS = {
    "failed": Outcome.FAILED,
    "fail": Outcome.FAILED,
    "failure": Outcome.FAILED,
    "error": Outcome.ERRORED,
    "errored": Outcome.ERRORED,
    "aborted": Outcome.ERRORED,
}
_ATTACHMENT = re.compile(r"^\s*\[\[ATTACHMENT\|(.+?)\]\]\s*$", re.MULTILINE)
_NOT_XML = bytes(set(range(32)) - {9, 10, 13})
_WIDE = (b"\xff\xfe", b"\xfe\xff")
_OURS = {str(outcome): outcome for outcome in Outcome}


@dataclass
class _Attempt:
    """A failure, error or earlier attempt that is being read."""

    outcome: Outcome
    message: str
    kind: str
    text: Text = field(default_factory=Text)
    trace: Text = field(default_factory=Text)
    output: Text = field(default_factory=Text)

    def entry(self, name: str) -> ReportedTest:
        detail = str(self.trace).strip("\n") or str(self.text).strip("\n")
        message = self.message or detail.strip().partition("\n")[0]
        return ReportedTest(
            name, self.outcome, message=message, detail=detail, output=str(self.output)
        )


@dataclass
class _Case:
    """A test case that is being read."""

    attributes: dict[str, str]
    bad: list[_Attempt] = field(default_factory=list)
    earlier: list[_Attempt] = field(default_factory=list)
    flaky: bool = False
    skipped: str | None = None
    reason: Text = field(default_factory=Text)
    output: Text = field(default_factory=Text)
    properties: list[tuple[str, str]] = field(default_factory=list)
    attachments: list[str] = field(default_factory=list)


@dataclass
class _Suite:
    """A suite that is being read. Missing values come from the suite around it."""

    name: str
    file: str
    host: str
    properties: list[tuple[str, str]]


class XunitReader:
    """Parses bytes into entries. ``close`` reports missing parts at the end.

    All calls raise FormatError. ``began`` is the first time stamp of the document.
    """

    def __init__(self) -> None:
        self.began = ""
        self.cases = 0
        self._parser = expat.ParserCreate(namespace_separator="\n")
        self._parser.buffer_text = True
        self._parser.StartElementHandler = self._start
        self._parser.EndElementHandler = self._end
        self._parser.CharacterDataHandler = self._data
        self._parser.StartDoctypeDeclHandler = self._doctype
        self._suites: list[_Suite] = []
        self._path: list[str] = []
        self._case: _Case | None = None
        self._text: Text | None = None
        self._property = ""
        self._made: list[ReportedTest] = []
        self._wide: bool | None = None

    def feed(self, data: bytes) -> list[ReportedTest]:
        """The entries that ended in this piece."""
        if self._wide is None and data:
            self._wide = data.startswith(_WIDE)
        self._parse(data if self._wide else data.translate(None, _NOT_XML), last=False)
        made, self._made = self._made, []
        return made

    def close(self) -> None:
        """The document has ended."""
        self._parse(b"", last=True)

    def _parse(self, data: bytes, *, last: bool) -> None:
        try:
            self._parser.Parse(data, last)
        except expat.ExpatError as error:
            message = expat.ErrorString(error.code)
            raise FormatError(f"is not well-formed XML: {message}", error.lineno) from None
        except (LookupError, ValueError) as error:  # Python decodes some encodings for the parser
            raise FormatError(f"has an encoding that cannot be read: {error}", 1) from None

    def _doctype(self, *_: object) -> None:
        line = self._parser.CurrentLineNumber
        raise FormatError(
            "contains a document type declaration, which is not allowed for security reasons", line
        )

    def _start(self, tag: str, attributes: dict[str, str]) -> None:
        name = tag.rpartition("\n")[2].lower()
        if not self._path and name not in ("testsuites", "testsuite"):
            message = f"is not an xUnit-style report: it starts with <{name}>"
            raise FormatError(message, self._parser.CurrentLineNumber)
        self._path.append(name)
        if name == "testsuite":
            if self._suites:
                outer = self._suites[-1]
            else:
                outer = _Suite(name="", file="", host="", properties=[])
            file, host = (attributes.get(key) or "" for key in ("file", "hostname"))
            own = _Suite(
                name=attributes.get("name", ""),
                file=file or outer.file,
                host=host or outer.host,
                properties=[*outer.properties],
            )
            self._suites.append(own)
            self.began = self.began or attributes.get("timestamp", "")
        elif name == "testcase":
            self._case = _Case(attributes)
        elif self._case is not None:
            self._inside(name, attributes, self._case)
        elif name == "property" and self._suites and attributes.get("value"):
            pair = (attributes.get("name", ""), attributes["value"])
            self._suites[-1].properties.append(pair)

    def _inside(self, name: str, attributes: dict[str, str], case: _Case) -> None:
        message, kind = attributes.get("message", ""), attributes.get("type", "")
        if name in _SEVERITY:
            case.bad.append(_Attempt(_SEVERITY[name], message, kind))
            self._text = case.bad[-1].text
        elif name in _ATTEMPTS:
            case.flaky |= name.startswith("flaky")
            case.earlier.append(_Attempt(_ATTEMPTS[name], message, kind))
            self._text = case.earlier[-1].text
        elif name == "skipped":
            case.skipped, self._text = message, case.reason
        elif name == "stacktrace" and case.earlier:
            self._text = case.earlier[-1].trace
        elif name in ("system-out", "system-err"):
            within = self._path[-2] in _ATTEMPTS and case.earlier
            self._text = case.earlier[-1].output if within else case.output
        elif name == "property":
            self._property, self._text = attributes.get("name", ""), Text()
            if "value" in attributes:
                case.properties.append((self._property, attributes["value"]))
                self._text = None
        elif name == "attachment":
            self._text = Text()
            if path := attributes.get("path") or attributes.get("href"):
                case.attachments.append(path)

    def _data(self, data: str) -> None:
        if self._text is not None:
            self._text.add(data)

    def _end(self, tag: str) -> None:
        name = self._path.pop()
        case = self._case
        if name == "testsuite":
            self._suites.pop()
        elif name == "testcase" and case is not None:
            self._made.append(self._entry(case))
            self.cases += 1
            self._case = None
        elif case is not None and self._text is not None and name in ("property", "attachment"):
            text = str(self._text).strip()
            if name == "property":
                case.properties.append((self._property, text))
            elif text:
                case.attachments.append(text)
        self._text = None

    def _entry(self, case: _Case) -> ReportedTest:
        attributes = case.attributes
        name = attributes.get("name", "")
        properties = dict(case.properties)
        if self._suites:
            suite = self._suites[-1]
        else:
            suite = _Suite(name="", file="", host="", properties=[])
        attempts = [attempt.entry(name) for attempt in case.bad]
        outcome, message = _judged(case, attempts)
        output = str(case.output)
        return ReportedTest(
            name=name,
            outcome=outcome,
            group=attributes.get("classname", ""),
            suite=NESTED.join(each.name for each in self._suites if each.name),
            file=attributes.get("file") or suite.file,
            line=_whole(attributes.get("line") or attributes.get("lineno") or ""),
            seconds=_seconds(attributes.get("time", "")),
            message=message,
            detail="\n\n".join(attempt.detail for attempt in attempts if attempt.detail),
            output=output,
            properties=tuple(case.properties),
            attachments=(*case.attachments, *_ATTACHMENT.findall(output)),
            earlier=tuple(attempt.entry(name) for attempt in case.earlier),
            address=properties.get("address", ""),
            suite_file=suite.file,
            host=suite.host,
            suite_properties=tuple(suite.properties),
            quarantined=properties.get("quarantined", ""),
        )


def _judged(case: _Case, attempts: list[ReportedTest]) -> tuple[Outcome, str]:
    """A case's outcome and its message: an error outweighs a failure."""
    if case.bad:
        worst = next((n for n, bad in enumerate(case.bad) if bad.outcome is Outcome.ERRORED), 0)
        outcome = case.bad[worst].outcome
        named = _OURS.get(case.bad[worst].kind, outcome)
        known = named.is_failure
        return named if known else outcome, attempts[worst].message
    if case.skipped is not None:
        message = case.skipped or str(case.reason).strip()
        properties = dict(case.properties)
        # A quarantined test is skipped only for CI.
        if "quarantined" in properties and properties.get("outcome") in _OURS:
            outcome = _OURS[properties["outcome"]]
            return outcome, message.partition(f"): {outcome} ")[2]
        if message.startswith("todo: "):
            return Outcome.TODO, message.removeprefix("todo: ")
        return Outcome.SKIPPED, message
    status = case.attributes.get("status", "") or case.attributes.get("result", "")
    if status.lower() in _NOT_RUN:
        return Outcome.SKIPPED, status
    if status.lower() in _BY_STATUS:  # some say no more than that
        return _BY_STATUS[status.lower()], ""
    return (Outcome.FLAKY if case.flaky else Outcome.PASSED), ""


def _seconds(text: str) -> float:
    """A duration; some reports write commas in thousands, some a text that is not a number."""
    try:
        return max(float(text.replace(",", "")), 0.0)
    except ValueError:
        return 0.0


def _whole(text: str) -> int:
    if text.isdecimal():
        return int(text)
    return 0
