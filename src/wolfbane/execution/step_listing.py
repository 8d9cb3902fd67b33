"""Ask the workers of scenario suites which steps there are, and where each is used."""

from __future__ import annotations

import asyncio
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from wolfbane.environments import Environment, Mask
from wolfbane.execution.browsing import Browsing
from wolfbane.execution.channel import Message
from wolfbane.execution.pool import Pool, Unstartable
from wolfbane.execution.worker import End
from wolfbane.inventory import Inventory
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.settings import Workspace


@dataclass(frozen=True)
class Use:
    """A step of a scenario that a definition is meant by: its file, line and text."""

    file: str
    line: int
    text: str


@dataclass(frozen=True)
class StepDefinition:
    """A step function: ``kind`` is given, when or then, or empty where it may stand anywhere."""

    suite: str
    kind: str
    pattern: str
    file: str
    line: int
    function: str
    uses: tuple[Use, ...] = ()

    @property
    def place(self) -> str:
        """``FILE:LINE``."""
        return f"{self.file}:{self.line}"


@dataclass
class StepListing:
    """Every definition, the steps that nobody defined, and why a suite could not be asked."""

    definitions: list[StepDefinition] = field(default_factory=list)
    undefined: list[Use] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)


def list_steps(
    inventory: Inventory, suites: Sequence[Suite], environment: Environment,
    files: Sequence[str] = (),
) -> StepListing:  # fmt: skip
    """The steps of these suites, and their uses in these files, else in all files of theirs."""
    return asyncio.run(_list(inventory, suites, environment, files))


async def _list(
    inventory: Inventory, suites: Sequence[Suite], environment: Environment, files: Sequence[str]
) -> StepListing:
    listing, workspace = StepListing(), inventory.workspace
    mask = Mask(environment.secrets)
    with tempfile.TemporaryDirectory() as folder:
        browsing = Browsing(workspace)
        pool = Pool(workspace, Path(folder), 1, [environment], browsing, mask)
        async with pool:
            for suite in suites:
                own = [f.path for f in inventory.files.values() if f.suite == suite.name]
                await _ask(pool, workspace, suite, [*files] or own, listing)
    return listing


async def _ask(
    pool: Pool, workspace: Workspace, suite: Suite, files: list[str], into: StepListing
) -> None:
    """Ask one suite's worker; what it says goes into the listing."""

    def listen(message: Message) -> None:
        if message["type"] == "step":
            uses = tuple(Use(*use) for use in message["uses"])
            kind, pattern, file, function = (
                str(message[key]) for key in ("kind", "pattern", "file", "function")
            )
            line = int(message["line"])
            definition = StepDefinition(suite.name, kind, pattern, file, line, function, uses)
            into.definitions.append(definition)
        elif message["type"] == "listed":
            into.undefined += [Use(*use) for use in message["undefined"]]
            if message.get("message"):
                into.problems.append(f"suite {suite.name}: {message['message']}")

    try:
        worker = await pool.slots[0].worker(suite, suite.browsers[0] if suite.browsers else "")
    except Unstartable as error:
        into.problems.append(f"suite {suite.name}: {error}")
        return
    ending = await worker.ask(
        {"type": "steps", "files": files}, "listed", listen, workspace.limit(suite)
    )
    if ending.end is not End.DONE:
        words = ending.words or ending.end.value
        into.problems.append(f"suite {suite.name}: its steps could not be listed: {words}")
