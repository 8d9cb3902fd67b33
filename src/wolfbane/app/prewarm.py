"""Starts the first worker of a run while the rest of Wolfbane is still loading."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from msgspec.structs import replace

from wolfbane.app.ready import ReadyRun
from wolfbane.kinds.protocols import launcher_of
from wolfbane.kinds.suite import Suite
from wolfbane.setup.run_request import NEVER


@contextmanager
def with_head_start(ready: ReadyRun) -> Iterator[ReadyRun]:
    """The run, with a first worker that starts in parallel, if a suite in play allows it."""
    suite = next((suite for suite in ready.in_play if _can_start_now(ready, suite)), None)
    request = ready.request
    if suite is None or request.dry_run or request.live or request.on:
        yield ready
        return
    from wolfbane.workers.prewarm import HeadStart

    no_build = request.build == NEVER
    with HeadStart(ready.workspace, ready.environments, suite, no_build=no_build) as ahead:
        yield replace(ready, head_start=ahead)


def _can_start_now(ready: ReadyRun, suite: Suite) -> bool:
    """Whether nothing must be built, set up or opened before the workers start."""
    launcher = launcher_of(suite)
    if launcher:
        before = launcher.commands_before(ready.workspace.root, suite)
    else:
        before = ()
    return not (suite.browsers or suite.build or before)
