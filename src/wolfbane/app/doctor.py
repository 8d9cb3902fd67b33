"""Checks a workspace: what is installed, what is missing, and how to fix it. Runs no tests."""

from __future__ import annotations

import asyncio
import os
import shutil
from collections import Counter
from collections.abc import Iterable, Iterator

from wolfbane.basis.inspection import only_looking
from wolfbane.browsers.status import look_for
from wolfbane.environments import Environment, resolve
from wolfbane.errors import InputError
from wolfbane.inventory import Inventory
from wolfbane.inventory.unclaimed import how_to_claim, in_words, unclaimed
from wolfbane.kinds.contract import MissingRuntime, NotStarted
from wolfbane.kinds.programs import check_required
from wolfbane.kinds.protocols import CanFailToBuild
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.reports.text import many
from wolfbane.selection import parse, term_counts
from wolfbane.setup.builds import stale_builds
from wolfbane.setup.probes import Prober
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workspace.diagnosis import Finding, State
from wolfbane.workspace.probes import PATIENCE
from wolfbane.workspace.settings import Workspace

SHOWN = 3


def look_over(inventory: Inventory, *, probe: bool) -> list[Finding]:
    """All findings, in the order of the settings.

    With ``probe``, programs and commands of the workspace start, and environments are resolved.
    """
    if probe:
        return list(_findings(inventory, probe=True))
    with only_looking(inventory.workspace.root):
        return list(_findings(inventory, probe=False))


def _findings(inventory: Inventory, *, probe: bool) -> Iterator[Finding]:
    counts = Counter(test.suite for test in inventory.tests)
    for suite in inventory.workspace.suites:
        yield from _suite(inventory, suite, counts[suite.name], probe=probe)
    if not inventory.workspace.suites:
        mend = "'wolfbane init' writes an example; 'wolfbane bridge learn' connects a launcher"
        yield Finding("suites", State.WARNING, "there is no suite, so nothing can run", mend=mend)
    yield from _browsers(inventory)
    if probe:
        yield from _environments(inventory)
    else:
        yield from _unresolved(inventory.workspace)
    yield from _cluster(inventory.workspace)
    yield from _files(inventory)
    yield from _rules(inventory)


def _suite(inventory: Inventory, suite: Suite, tests: int, *, probe: bool) -> Iterator[Finding]:
    about = f"suite {suite.name}"
    kind = find_kind(suite.kind)
    try:
        check_required(inventory.workspace.root, suite)
        kind.worker(inventory.workspace.root, suite)
        runtime = kind.runtime(inventory.workspace.root, suite)
    except (MissingRuntime, OSError) as error:
        mend = "install it, or set another one in the suite's settings"
        yield Finding(
            about, State.MISSING, str(error), mend="" if "(install" in str(error) else mend
        )
    except NotStarted as program:
        inside = os.path.relpath(str(program), inventory.workspace.root)
        message = f"{many(tests, 'test')}; {inside} did not start, because it is in the workspace"
        yield Finding(about, State.OK, message)
    else:
        yield Finding(about, State.OK, f"{many(tests, 'test')}; {runtime}")
        trouble = ""
        if probe and isinstance(kind, CanFailToBuild):
            trouble = kind.trouble(inventory.workspace.root, suite)
        if trouble:
            yield Finding(
                about, State.WARNING, trouble, mend=f"try: wolfbane run --suite {suite.name}"
            )
    if not tests and not suite.build:
        paths = ", ".join(suite.paths)
        yield Finding(
            about, State.WARNING, "the suite has no tests", mend=f"check its paths: {paths}"
        )
    broken = [f for f in inventory.files.values() if f.suite == suite.name and f.error]
    for file in broken[:SHOWN]:
        reason = file.error.strip().partition("\n")[0]
        mend = f"to see the error: wolfbane run {file.path}"
        yield Finding(about, State.WARNING, f"{file.path} could not be loaded: {reason}", mend=mend)


def _browsers(inventory: Inventory) -> Iterator[Finding]:
    """The browsers that suites list, with their versions."""
    listed = [name for suite in inventory.workspace.suites for name in suite.browsers]
    for browser in look_for(inventory.workspace, dict.fromkeys(listed)):
        about = f"browser {browser.name}"
        if browser.problem:
            message, _, mend = browser.problem.removeprefix(
                f"browser '{browser.name}': "
            ).partition("; ")
            yield Finding(about, State.MISSING, message, mend=mend)
        else:
            message = f"{browser.engine} {browser.version}".strip()
            yield Finding(about, State.OK, f"{message}; {browser.driver or browser.program}")


def _unresolved(workspace: Workspace) -> Iterator[Finding]:
    """Environments whose values may come from commands of the workspace."""
    for name in workspace.settings.env:
        yield Finding(_named(name), State.OK, "not checked; 'wolfbane doctor --probe' checks it")


def _environments(inventory: Inventory) -> Iterator[Finding]:
    workspace = inventory.workspace
    default = workspace.settings.workspace.env
    names = list(workspace.settings.env) or [""]
    resolved: list[Environment] = []
    for name in names:
        if name == default:
            state = State.MISSING
        else:
            state = State.WARNING
        try:
            resolved.append(resolve(workspace, name))
        except InputError as error:
            for problem in error.problems:
                yield Finding(_named(name), state, problem.message, mend=problem.hint)
    yield from asyncio.run(_look_at(inventory, resolved))
    base = next((e for e in resolved if e.name == default), resolved[0] if resolved else None)
    if base:
        for name in stale_builds(workspace, base):
            yield Finding(
                f"suite {name}",
                State.WARNING,
                "the build of the suite is older than its inputs",
                mend="the next run builds it",
            )


async def _look_at(inventory: Inventory, environments: Iterable[Environment]) -> list[Finding]:
    workspace = inventory.workspace
    default = workspace.settings.workspace.env
    with ProcessGroup() as group:

        async def one(environment: Environment) -> list[Finding]:
            prober = Prober(
                group=group,
                folder=workspace.root,
                variables=environment.exports,
                given_up=lambda: False,
            )
            ports = {str(port) for port in environment.ports.values()}
            own = [
                p for p in environment.probes if not any(s in t for t in p.target for s in ports)
            ]
            whys = await asyncio.gather(*(prober.wait(probe, PATIENCE) for probe in own))
            down = [environment.mask(why) for why in whys if why]
            if environment.name == default:
                state = State.MISSING
            else:
                state = State.WARNING
            about = _named(environment.name)
            mend = "start the system of this environment, or select another environment"
            findings = [Finding(about, state, f"not ready: {why}", mend=mend) for why in down]
            if environment.name and not down:
                message = "complete"
                if own:
                    message = "ready"
                findings.append(Finding(about, State.OK, message))
            return [*findings, *_services(environment, state)]

        parts = await asyncio.gather(*map(one, environments))
    return list(dict.fromkeys(finding for part in parts for finding in part))


def _services(environment: Environment, state: State) -> Iterator[Finding]:
    for plan in environment.services.values():
        about, program = f"service {plan.name}", plan.command[0]
        if shutil.which(program) or (plan.folder / program).is_file():
            yield Finding(about, State.OK, f"started by each run: {program}")
        else:
            mend = "install it, or change the service's command"
            yield Finding(about, state, f"program '{program}' not found", mend=mend)


def _cluster(workspace: Workspace) -> Iterator[Finding]:
    """The cluster that the settings name."""
    if not workspace.settings.cluster.address:
        return
    # To connect would let the program at that address run code here.
    message = f"{workspace.settings.cluster.address} is not contacted; see 'wolfbane machines'"
    yield Finding("cluster", State.OK, message)


def _named(environment: str) -> str:
    if environment:
        return f"environment {environment}"
    return "parameters"


def _files(inventory: Inventory) -> Iterator[Finding]:
    """Files that look like tests but belong to no suite; files that two suites list."""
    if lost := unclaimed(inventory):
        mend = "; ".join([*how_to_claim(inventory, lost), "or leave them out with exclude"])
        yield Finding("files", State.WARNING, in_words(lost), mend=mend)
    for path, suites in inventory.shared.items():
        message = f"{path} belongs to suites {', '.join(suites)}; it runs only in {suites[0]}"
        yield Finding("files", State.WARNING, message, mend="exclude it from the other suites")


def _rules(inventory: Inventory) -> Iterator[Finding]:
    """Terms of rules that match no test."""
    settings = inventory.workspace.settings
    texts = {f"rule for tag {rule.name}": rule.match for rule in settings.tag}
    texts["leave_out"] = settings.workspace.leave_out
    for about, text in texts.items():
        if text:
            for count in term_counts(parse(text), inventory.tests, {}):
                if not count.matches and count.term.field != "status":
                    yield Finding(about, State.WARNING, str(count), mend="correct or remove it")
