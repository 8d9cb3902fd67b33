"""From a worker's messages to results."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from typing import Any

from wolfbane.model import Discrepancy, Evidence, Excerpt, Frame, Outcome, Part, Result, Test

OUTCOMES = {str(o): o for o in Outcome if o is not Outcome.FLAKY}
BEFORE, AFTER = 3, 2
LONGEST_TEXT = 1 << 18
LONGEST_LINE = 300
MANY_PARTS = 250_000


class ResultMaker:
    """Builds results: secrets masked, places relative, and an excerpt of the source.

    ``environments`` are the names of environments by the targets of tests.
    """

    def __init__(
        self, root: Path, mask: Callable[[str], str], environments: Mapping[str, str]
    ) -> None:
        self._root, self._environments = root, environments
        self._mask = mask
        self._start = f"{root}/"

    def make(
        self,
        test: Test,
        message: Mapping[str, Any],
        output: str,
        parts: Sequence[Part] = (),
        evidence: Sequence[Evidence] = (),
        began: float = 0.0,
        worker: int = 0,
    ) -> Result:
        """The result of one attempt, ``parts`` told ahead of its last message included.

        Raises KeyError or ValueError where the message is wrong.
        """
        frames = tuple(self._frame(frame) for frame in message.get("frames", ()))
        told = [*parts, *self.parts(message.get("parts", ()))][:MANY_PARTS]
        whole = Result(
            address=test.address,
            suite=test.suite,
            kind=test.kind,
            path=test.path,
            name=test.name,
            outcome=OUTCOMES[message["outcome"]],
            seconds=float(message.get("seconds", 0.0)),
            message=self._text(message.get("message", "")),
            trace=self._text(message.get("trace", "")),
            frames=frames,
            excerpt=self._excerpt(frames, test.path) if frames else None,
            output=self._text(output),
            parts=tuple(told),
            tags=tuple(tag.text for tag in test.tags),
            browser=test.browser,
            target=test.target,
            environment=self._environments.get(test.target, test.target),
            evidence=tuple(evidence),
            began=began,
            worker=worker,
            account=Discrepancy(message.get("account", "")),
            about=tuple(
                (self._mask(str(title)), self._text(words))
                for title, words in message.get("about", ())
            ),
        )
        return self._after(whole, message["attempts"]) if message.get("attempts") else whole

    def _after(self, result: Result, attempts: Sequence[Mapping[str, Any]]) -> Result:
        """A result with the attempts before it that were made where nobody of us looked on."""
        earlier = tuple(
            Result(
                result.address, result.suite, result.kind, result.path, result.name,
                OUTCOMES[told["outcome"]], float(told.get("seconds", 0.0)),
                self._text(told.get("message", "")), self._text(told.get("trace", "")),
                output=self._text(told.get("output", "")), tags=result.tags,
                browser=result.browser, target=result.target,
                environment=result.environment, attempt=number,
            )
            for number, told in enumerate(attempts, 1)
        )  # fmt: skip
        flaky = result.outcome is Outcome.PASSED and any(each.outcome.is_bad for each in earlier)
        outcome = Outcome.FLAKY if flaky else result.outcome
        return replace(result, outcome=outcome, attempt=len(earlier) + 1, earlier=earlier)

    def parts(self, told: Iterable[Mapping[str, Any]]) -> list[Part]:
        """Parts as a worker tells them. Raises KeyError or ValueError where one is wrong."""
        return [self._part(part) for part in told]

    def _frame(self, frame: Mapping[str, Any]) -> Frame:
        return Frame(
            self._relative(str(frame["file"])), int(frame["line"] or 0), str(frame["function"])
        )

    def _part(self, part: Mapping[str, Any]) -> Part:
        if len(part) == 2:  # by far the most: a part that passed, of which there is no more to say
            return Part(self._mask(str(part["name"])), OUTCOMES[part["outcome"]])
        return Part(
            name=self._mask(str(part["name"])),
            outcome=OUTCOMES[part["outcome"]],
            message=self._text(part.get("message", "")),
            seconds=float(part.get("seconds", 0.0)),
            file=self._relative(str(part.get("file", ""))),
            line=int(part.get("line", 0)),
            parts=tuple(self.parts(part.get("parts", ()))),
            table=tuple(tuple(self._mask(str(c)) for c in row) for row in part.get("table", ())),
            text=self._text(part.get("text", "")),
        )

    def _text(self, text: object) -> str:
        return _limited(self._mask(str(text)))

    def _relative(self, file: str) -> str:
        return file.removeprefix(self._start)

    def _excerpt(self, frames: Sequence[Frame], path: str) -> Excerpt | None:
        """Around the innermost frame of the test's own file, else of the workspace."""
        inside = [frame for frame in frames if not frame.file.startswith("/")]
        own = [frame for frame in inside if frame.file == path]
        for frame in (*own[-1:], *inside[-1:]):
            lines = source_lines(self._root / frame.file)
            if 0 < frame.line <= len(lines):
                first = max(1, frame.line - BEFORE)
                shown = lines[first - 1 : frame.line + AFTER]
                kept = tuple(_clipped(self._mask(line)) for line in shown)
                return Excerpt(frame.file, frame.line, first, kept)
        return None


@lru_cache(maxsize=64)
def source_lines(path: Path) -> tuple[str, ...]:
    """A source file's lines, or nothing where it cannot be read."""
    try:
        return tuple(path.read_text(encoding="utf-8", errors="replace").splitlines())
    except OSError:
        return ()


def _clipped(line: str) -> str:
    return line if len(line) <= LONGEST_LINE else f"{line[:LONGEST_LINE]} ..."


def _limited(text: str) -> str:
    if len(text) <= LONGEST_TEXT:
        return text
    half = LONGEST_TEXT // 2
    return f"{text[:half]}\n[... {len(text) - 2 * half} characters left out ...]\n{text[-half:]}"
