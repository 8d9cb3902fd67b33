"""Builds results from the messages of workers."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import lru_cache
from pathlib import Path

from msgspec.structs import replace

from wolfbane.basis.files import read_regular
from wolfbane.model import Discrepancy, Evidence, Excerpt, Frame, Outcome, Part, Result, Test
from wolfbane.workers.message_data import AttemptData, Ending, FrameData, PartData

BEFORE, AFTER = 3, 2
LONGEST_TEXT = 1 << 18
LONGEST_LINE = 300
MANY_PARTS = 250_000
_OUTCOMES = {outcome.value: outcome for outcome in Outcome}
"""A call of the enumeration itself takes ten times as long, for each test."""


class ResultBuilder:
    """Builds results with masked secrets, relative paths, and an excerpt of the source.

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
        ending: Ending,
        output: str,
        *,
        parts: Sequence[Part] = (),
        evidence: Sequence[Evidence] = (),
        began: float = 0.0,
        worker: int = 0,
    ) -> Result:
        """The result of one attempt, with ``parts`` that were sent before its last message."""
        frames = tuple(map(self._frame, ending.frames))
        all_parts: Sequence[Part] = ()
        if parts or ending.parts:
            all_parts = [*parts, *self.parts(ending.parts)][:MANY_PARTS]
        whole = Result(
            address=test.address,
            suite=test.suite,
            kind=test.kind,
            path=test.path,
            name=test.name,
            outcome=_OUTCOMES[ending.outcome],
            seconds=ending.seconds,
            message=self._text(ending.message),
            trace=self._text(ending.trace),
            frames=frames,
            excerpt=self._excerpt(frames, test.path) if frames else None,
            output=self._text(output),
            parts=tuple(all_parts),
            tags=tuple([tag.text for tag in test.tags]) if test.tags else (),
            browser=test.browser,
            target=test.target,
            environment=self._environments.get(test.target, test.target),
            evidence=tuple(evidence),
            began=began,
            worker=worker,
            account=Discrepancy(ending.account) if ending.account else Discrepancy.AGREED,
            about=self._about(ending) if ending.about else (),
        )
        if ending.attempts:
            return self._after(whole, ending.attempts)
        return whole

    def _after(self, result: Result, attempts: Sequence[AttemptData]) -> Result:
        """A result with the earlier attempts that the runtime itself made."""
        earlier = tuple(
            Result(
                address=result.address,
                suite=result.suite,
                kind=result.kind,
                path=result.path,
                name=result.name,
                outcome=_OUTCOMES[message.outcome],
                seconds=message.seconds,
                message=self._text(message.message),
                trace=self._text(message.trace),
                output=self._text(message.output),
                tags=result.tags,
                browser=result.browser,
                target=result.target,
                environment=result.environment,
                attempt=number,
            )
            for number, message in enumerate(attempts, 1)
        )
        flaky = result.outcome is Outcome.PASSED and any(each.outcome.is_bad for each in earlier)
        if flaky:
            outcome = Outcome.FLAKY
        else:
            outcome = result.outcome
        return replace(result, outcome=outcome, attempt=len(earlier) + 1, earlier=earlier)

    def parts(self, messages: Iterable[PartData]) -> list[Part]:
        """Parts of a test, as a worker reports them."""
        return [self._part(part) for part in messages]

    def _about(self, ending: Ending) -> tuple[tuple[str, str], ...]:
        return tuple((self._mask(title), self._text(text)) for title, text in ending.about)

    def _frame(self, frame: FrameData) -> Frame:
        return Frame(self._relative(frame.file), frame.line or 0, frame.function)

    def _part(self, part: PartData) -> Part:
        # A file may have thousands: what most of them lack is asked for before it is worked on.
        return Part(
            name=self._mask(part.name),
            outcome=_OUTCOMES[part.outcome],
            message=self._text(part.message) if part.message else "",
            seconds=part.seconds,
            file=self._relative(part.file) if part.file else "",
            line=part.line,
            parts=tuple(self.parts(part.parts)) if part.parts else (),
            table=tuple(tuple(map(self._mask, row)) for row in part.table) if part.table else (),
            text=self._text(part.text) if part.text else "",
        )

    def _text(self, text: str) -> str:
        if text:
            return _limited(self._mask(text))
        return ""

    def _relative(self, file: str) -> str:
        return file.removeprefix(self._start)

    def _excerpt(self, frames: Sequence[Frame], path: str) -> Excerpt | None:
        """Around the innermost frame of the test's own file; without one, of the workspace."""
        inside = [frame for frame in frames if not frame.file.startswith("/")]
        own = [frame for frame in inside if frame.file == path]
        for frame in (*own[-1:], *inside[-1:]):
            lines = source_lines(self._root / frame.file)
            if 0 < frame.line <= len(lines):
                first = max(1, frame.line - BEFORE)
                shown = lines[first - 1 : frame.line + AFTER]
                kept = tuple(_clipped(self._mask(line)) for line in shown)
                return Excerpt(file=frame.file, line=frame.line, first=first, lines=kept)
        return None


@lru_cache(maxsize=64)
def source_lines(path: Path) -> tuple[str, ...]:
    """A source file's lines, or nothing if it cannot be read."""
    try:
        return tuple(read_regular(path).decode("utf-8", "replace").splitlines())
    except OSError:
        return ()


def _clipped(line: str) -> str:
    if len(line) <= LONGEST_LINE:
        return line
    return f"{line[:LONGEST_LINE]} ..."


def _limited(text: str) -> str:
    if len(text) <= LONGEST_TEXT:
        return text
    half = LONGEST_TEXT // 2
    return f"{text[:half]}\n[... {len(text) - 2 * half} characters omitted ...]\n{text[-half:]}"
