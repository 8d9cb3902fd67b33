"""The abilities of a machine for a workspace: its installed runtimes and browsers."""

from __future__ import annotations

from wolfbane.browsers.status import browsers_of, look_for
from wolfbane.cluster.messages import MachineAbilities
from wolfbane.kinds.contract import MissingRuntime
from wolfbane.kinds.programs import check_required
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.settings import Workspace


def missing_runtime(workspace: Workspace, suite: Suite) -> str:
    """The reason why the workers of a suite cannot start on this machine; empty if they can."""
    kind = find_kind(suite.kind)
    try:
        kind.worker(workspace.root, suite)
        kind.runtime(workspace.root, suite)
    except (MissingRuntime, OSError) as error:
        return str(error)
    return ""


def abilities(workspace: Workspace) -> MachineAbilities:
    """The runtimes and browsers on this machine that the suites of a workspace need."""
    runtimes, missing = {}, {}
    for suite in workspace.suites:
        try:
            check_required(workspace.root, suite)
            why = missing_runtime(workspace, suite)
        except MissingRuntime as error:
            why = str(error)
        if why:
            missing[suite.name] = why
        else:
            runtimes[suite.name] = find_kind(suite.kind).runtime(workspace.root, suite)
    browsers = look_for(workspace, browsers_of(workspace))
    return MachineAbilities(
        runtimes=runtimes,
        missing=missing,
        browsers={
            each.name: f"{each.engine} {each.version}".strip()
            for each in browsers
            if not each.problem
        },
        no_browser={each.name: each.problem for each in browsers if each.problem},
    )
