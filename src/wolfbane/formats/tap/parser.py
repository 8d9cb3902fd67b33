"""Read TAP, the Test Anything Protocol: versions 12, 13 and 14, line by line.

Sources: the TAP specifications, https://testanything.org/tap-specification.html (12),
tap-version-13-specification.html and tap-version-14-specification.html.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

_VERSION = re.compile(r"TAP version (\d+)\s*$", re.IGNORECASE)
_PLAN = re.compile(r"1\.\.(\d+)\s*(?:#\s*(.*?)\s*)?$")
_POINT = re.compile(r"(not )?ok\b(?:[ \t]+(\d+)(?=\s|$))?[ \t]*(?:-[ \t]*)?(.*)$")
_DIRECTIVE = re.compile(r"(?:^|(?<=\s))#\s*(skip|todo)(?:\b|(?=\w))\w*:?\s*(.*)$", re.IGNORECASE)
_BAIL = re.compile(r"Bail out!\s*(.*?)\s*$", re.IGNORECASE)
_PRAGMA = re.compile(r"pragma\s+([+-]\w.*)$")
_LOCATION = re.compile(r"#\s+(?:at (?P<file>\S.*?) line (?P<line>\d+)\.?)\s*$")
_AT_KEY = re.compile(r"^\s*(?:at:\s*)?(?P<key>file|line):\s*['\"]?(?P<value>.*?)['\"]?\s*$")
_NESTED = "    "


@dataclass
class Point:
    """One ``ok`` or ``not ok`` line with the lines that belong to it."""

    number: int
    ok: bool
    name: str
    directive: str = ""
    reason: str = ""
    diagnostics: list[str] = field(default_factory=list)
    points: list[Point] = field(default_factory=list)
    file: str = ""
    line: int = 0

    @property
    def outcome(self) -> str:
        """The outcome in Wolfbane's terms; a point marked TODO never fails."""
        if self.directive == "todo":
            if self.ok:
                return "passed"
            return "todo"
        if self.directive == "skip" and self.ok:
            return "skipped"
        if self.ok:
            return "passed"
        return "failed"


@dataclass
class TapDocument:
    """A complete TAP stream: its points, its plan and all errors."""

    version: int = 12
    planned: int | None = None
    skip_reason: str | None = None
    points: list[Point] = field(default_factory=list)
    bail_out: str | None = None
    problems: list[str] = field(default_factory=list)
    seen_any: bool = False


class TapReader:
    """Parses lines into a ``document``. Lines that are not TAP are ignored."""

    def __init__(self) -> None:
        self.document = TapDocument()
        self._yaml_indent: str | None = None
        self._nested: TapReader | None = None
        self._plan_is_last = False
        self._strict = False

    def feed(self, line: str) -> Point | None:
        """Process one line without its line end; returns the point, if the line has one."""
        line = line.rstrip("\r\n")
        if self._yaml_indent is None and (point := _POINT.match(line)):
            return self._point(point)
        if self._in_yaml(line):
            return None
        if line.startswith(_NESTED) and not line.startswith(_NESTED + _NESTED + " "):
            if self._nested is None:
                self._nested = TapReader()
            self._nested.feed(line[len(_NESTED) :])
            return None
        if point := _POINT.match(line):  # the line that broke off a YAML block
            return self._point(point)
        if not self._structure(line) and line.strip():
            self._stray(line)
        return None

    def finish(self) -> TapDocument:
        """Check the counts once the stream has ended."""
        document, problems = self.document, self.document.problems
        if self._yaml_indent is not None:
            problems.append("the stream ends inside a YAML block")
        if document.bail_out is not None:
            return document
        if document.planned is None:
            if document.points:
                problems.append("there is no plan, so the output may be incomplete")
        elif document.planned != len(document.points):
            message = f"the plan is {document.planned} {_points(document.planned)}"
            problems.append(f"{message}, but the program printed {len(document.points)}")
        return document

    def _point(self, match: re.Match[str]) -> Point:
        document = self.document
        document.seen_any = True
        expected = len(document.points) + 1
        if match[2]:
            number = int(match[2])
        else:
            number = expected
        if number != expected:
            document.problems.append(f"found point {number}, expected point {expected}")
        if self._plan_is_last:
            document.problems.append(f"found point {number} after the final plan")
            self._plan_is_last = False
        text, directive, reason = match[3], "", ""
        if "#" in text and (mark := _DIRECTIVE.search(_mask_escapes(text))):
            directive = mark[1].lower()
            reason, text = text[mark.start(2) :].strip(), text[: mark.start()]
        if "\\" in text:
            text = re.sub(r"\\([\\#])" if document.version >= 14 else r"\\(#)", r"\1", text)
        point = Point(
            number=number,
            ok=match[1] is None,
            name=text.strip(),
            directive=directive,
            reason=reason,
        )
        if self._nested is not None:
            inner = self._nested.finish()
            if inner.seen_any:
                point.points = inner.points
                point.diagnostics += [f"in the subtest: {problem}" for problem in inner.problems]
            self._nested = None
        document.points.append(point)
        return point

    def _structure(self, line: str) -> bool:
        document = self.document
        if plan := _PLAN.match(line):
            if document.planned is not None:
                document.problems.append(f"a second plan, '{line.strip()}'")
            elif document.points:
                self._plan_is_last = True
            document.planned = int(plan[1]) if document.planned is None else document.planned
            document.seen_any = True
            note = plan[2] or ""
            if document.planned == 0:
                document.skip_reason = re.sub(r"(?i)^skip\S*\s*", "", note)
        elif version := _VERSION.match(line):
            document.version = int(version[1])
        elif bail := _BAIL.match(line):
            document.bail_out = bail[1]
            document.seen_any = True
        elif pragma := _PRAGMA.match(line):
            self._strict = "+strict" in pragma[1].replace(" ", "") or (
                self._strict and "-strict" not in pragma[1]
            )
        elif line.startswith("#"):
            self.diagnose(line)
        else:
            return False
        return True

    def diagnose(self, line: str) -> None:
        """Attach a ``#`` line to the newest point, and read ``at FILE line N`` from it."""
        if not self.document.points or line.startswith("# Subtest"):
            return
        point = self.document.points[-1]
        point.diagnostics.append(line)
        if not point.ok and not point.line and (location := _LOCATION.match(line)):
            point.file, point.line = location["file"], int(location["line"])

    def _in_yaml(self, line: str) -> bool:
        if self._yaml_indent is not None:
            if line.strip() == "..." and line.startswith(self._yaml_indent):
                self._yaml_indent = None
            elif not line.startswith(self._yaml_indent) and line.strip():
                self.document.problems.append("a YAML block is not closed")
                self._yaml_indent = None
                return False
            else:
                self._yaml_line(line[len(self._yaml_indent) :])
            return True
        points = self.document.points
        if points and self._nested is None and re.match(r"[ \t]{1,3}---", line):
            self._yaml_indent = line[: len(line) - len(line.lstrip())]
            return True
        return False

    def _yaml_line(self, line: str) -> None:
        point = self.document.points[-1]
        point.diagnostics.append(line)
        if location := _AT_KEY.match(line):
            if location["key"] == "file":
                point.file = location["value"]
            elif location["value"].isdigit():
                point.line = int(location["value"])

    def _stray(self, line: str) -> None:
        if self._strict:
            self.document.problems.append(
                f"not a TAP line, although the program requested strict mode: {line[:80]}"
            )


def _mask_escapes(text: str) -> str:
    return re.sub(r"\\.", "__", text)


def _points(count: int) -> str:
    if count == 1:
        return "point"
    return "points"
