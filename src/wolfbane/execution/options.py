"""The options of a run."""

from __future__ import annotations

from dataclasses import dataclass

from wolfbane.execution.setup.builds import CHANGED


@dataclass(frozen=True)
class Options:
    """How to run what was chosen.

    ``timeout`` (seconds) overrides every suite's own; with ``no_focus`` a run fails where tests
    are marked as the only ones to run.
    """

    jobs: int = 1
    timeout: float | None = None
    stop_after: int | None = None
    seed: int | None = None
    command: str = ""
    pointed: tuple[str, ...] = ()
    build: str = CHANGED
    no_focus: bool = False
    evidence: str = "failures"
    visible: bool = False
    log: frozenset[str] = frozenset()
    retries: int | None = None
    retry_at_once: bool = False
    flaky_fails: bool = False
    failed_first: bool = False
