"""Asks the workers of scenario suites for all steps and the places where they are used."""

from __future__ import annotations

import asyncio
import tempfile
from collections.abc import Sequence
from pathlib import Path

from wolfbane.browsers.run_browsers import RunBrowsers
from wolfbane.environments import Environment
from wolfbane.inventory import Inventory
from wolfbane.kinds.steps import StepDefinition, StepListing, StepUse
from wolfbane.kinds.suite import Suite
from wolfbane.setup.run_context import RunContext
from wolfbane.workers.launcher import Unstartable
from wolfbane.workers.pool import Pool
from wolfbane.workers.protocol import ListedMessage, StepMessage, WorkerMessage
from wolfbane.workers.worker import End
from wolfbane.workspace.settings import Workspace


def list_steps(
    inventory: Inventory,
    suites: Sequence[Suite],
    environment: Environment,
    files: Sequence[str] = (),
) -> StepListing:
    """The steps of these suites, and their uses in these files; without files, in all files of the
    suites.
    """
    return asyncio.run(_list(inventory, suites, environment, files=files))


async def _list(
    inventory: Inventory, suites: Sequence[Suite], environment: Environment, files: Sequence[str]
) -> StepListing:
    listing, workspace = StepListing(), inventory.workspace
    mask = environment.mask
    with tempfile.TemporaryDirectory() as folder:
        context = RunContext(
            workspace=workspace,
            environments=[environment],
            folder=Path(folder),
            browsers=RunBrowsers(workspace),
            mask=mask,
            jobs=1,
        )
        async with context.pool:
            for suite in suites:
                own = [f.path for f in inventory.files.values() if f.suite == suite.name]
                await _ask(context.pool, workspace, suite, files=[*files] or own, into=listing)
    return listing


async def _ask(
    pool: Pool, workspace: Workspace, suite: Suite, files: list[str], into: StepListing
) -> None:
    """Ask one suite's worker, and add its steps to the listing."""

    def listen(message: WorkerMessage) -> None:
        if isinstance(message, StepMessage):
            uses = tuple(StepUse(*use) for use in message.uses)
            definition = StepDefinition(
                suite=suite.name,
                kind=message.kind,
                pattern=message.pattern,
                file=message.file,
                line=message.line,
                function=message.function,
                uses=uses,
            )
            into.definitions.append(definition)
        elif isinstance(message, ListedMessage):
            into.undefined += [StepUse(*use) for use in message.undefined]
            if message.message:
                into.problems.append(f"suite {suite.name}: {message.message}")

    try:
        worker = await pool.slots[0].worker(suite, suite.browsers[0] if suite.browsers else "")
    except Unstartable as error:
        into.problems.append(f"suite {suite.name}: {error}")
        return
    ending = await worker.ask(
        {"type": "steps", "files": files}, ListedMessage, listen, workspace.limit(suite)
    )
    if ending.end is not End.DONE:
        reason = ending.message or ending.end.value
        into.problems.append(f"suite {suite.name}: cannot list the steps: {reason}")
