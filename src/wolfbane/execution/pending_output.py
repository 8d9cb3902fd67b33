"""Data from workers about tests that are still running."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec
from msgspec.structs import replace

from wolfbane.browsers.run_browsers import BrowserVerdict
from wolfbane.environments import Mask
from wolfbane.execution.masked import masked_texts
from wolfbane.model import Evidence, Part, Result, Test
from wolfbane.setup.run_context import RunContext
from wolfbane.workers.message_data import Ending
from wolfbane.workers.protocol import EvidenceMessage, OutputMessage, PartsMessage


class PendingOutput:
    """Output, parts and kept files by the address of a test, until its result takes them."""

    def __init__(self, context: RunContext) -> None:
        self._context = context
        self._output: dict[str, list[str]] = {}
        self._parts: dict[str, list[Part]] = {}
        self._evidence: dict[str, list[Evidence]] = {}
        self._marks: dict[str, dict[str, str]] = {}

    def add_output(self, message: OutputMessage) -> None:
        """Output of a test."""
        self._output.setdefault(message.address, []).append(message.text)

    def add_parts(self, message: PartsMessage) -> None:
        """Parts of a test that have ended."""
        parts = self._context.results.parts(message.parts)
        self._parts.setdefault(message.address, []).extend(parts)

    def add_evidence(self, message: EvidenceMessage) -> None:
        """An evidence file of a test. Its ``mark`` represents it in the test's messages."""
        context, address = self._context, message.address
        kept = context.evidence.keep(address, message.kind, message.content)
        kept = replace(kept, name=context.mask(message.name), part=message.part)
        self._evidence.setdefault(address, []).append(kept)
        if message.mark:
            path = context.evidence.path(kept)
            self._marks.setdefault(address, {})[message.mark] = path

    def result(
        self,
        test: Test,
        end: Ending,
        printed: str,
        *,
        began: float,
        worker: int,
        seen: BrowserVerdict | None,
    ) -> Result:
        """The result of a test that ended, with all data that was sent before.

        ``printed`` is the last output of its worker, ``seen`` is what its browser knows.
        """
        address = test.worker_address
        output = "".join(self._output.pop(address, ())) + printed
        parts = self._parts.pop(address, ())
        evidence = [*self._evidence.pop(address, ()), *(seen.evidence if seen else ())]
        if marks := self._marks.pop(address, None):
            end = msgspec.convert(_with_paths(msgspec.to_builtins(end), marks), Ending)
        result = self._context.results.make(
            test, end, output, parts=parts, evidence=evidence, began=began, worker=worker
        )
        if seen and seen.secrets:
            return masked_texts(result, Mask(seen.secrets))
        return result


def _with_paths(value: Any, marks: Mapping[str, str]) -> Any:
    """The messages of a test, with paths of evidence files in place of their marks."""
    if isinstance(value, str):
        for mark, path in marks.items():
            value = value.replace(mark, path)
        return value
    if isinstance(value, list | tuple):
        return [_with_paths(item, marks) for item in value]
    if isinstance(value, Mapping):
        return {key: _with_paths(item, marks) for key, item in value.items()}
    return value
