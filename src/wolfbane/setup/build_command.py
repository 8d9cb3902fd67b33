"""Runs a build command of a suite."""

from __future__ import annotations

import asyncio

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.kinds.suite import Suite
from wolfbane.setup.run_context import RunContext

_LOOK_EVERY = 0.025
"""Seconds between two checks whether the command has ended or the run was stopped."""


async def run_build_command(
    context: RunContext, suite: Suite, command: str, member: str
) -> tuple[str, str]:
    """Run a shell command for a suite; returns the failure (or an empty text) and the output."""
    group, pool = context.launcher.group, context.pool
    member = member.replace("/", "-")
    printed = group.scratch / f"{member}.out"
    process = group.start(
        ["/bin/sh", "-c", command],
        context.workspace.root / suite.folder,
        context.launcher.variables(suite),
        printed,
        member,
    )
    while process.poll() is None and not pool.stopping:
        await asyncio.sleep(_LOOK_EVERY)
    stopped = process.poll() is None
    group.end(process, member)
    output = printed.read_text(encoding="utf-8", errors="replace")
    printed.unlink()
    if stopped:
        return "stopped", output
    return how_it_ended(process.returncode) if process.returncode else "", output
