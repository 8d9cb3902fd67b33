"""Checks whether the suites of a run match the version deployed in its environments."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from wolfbane.environments.deployed import DeployedVersion
from wolfbane.errors import InputError, Problem
from wolfbane.events.run_events import SuiteState
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.workspace.git import ask_git, find_commit


def version_mismatches(inputs: RunInputs, versions: Mapping[str, DeployedVersion]) -> Sequence[str]:
    """The problems, for each environment. ``versions`` are by label.

    Raises InputError with the problems if the versions must match.
    """
    names = {each.label: each.name for each in inputs.environments}
    mismatches = [*_mismatches(inputs.workspace.root, inputs.suite_state(), versions, names=names)]
    if mismatches and inputs.request.version_must_match:
        hint = "use --at deployed to take the suites of that version"
        raise InputError(*(Problem(message, hint=hint) for message in mismatches))
    return mismatches


def _mismatches(
    root: Path, state: SuiteState, versions: Mapping[str, DeployedVersion], names: Mapping[str, str]
) -> Iterator[str]:
    """The problems, for each environment. ``versions`` and ``names`` are by label."""
    for label, version in versions.items():
        name = "the environment"
        if names[label]:
            name = f"environment '{names[label]}'"
        if version.trouble:
            yield f"the version of {name} is unknown: {version.trouble}"
            continue
        there = f"{name} has version {version.text}"
        commit = find_commit(root, version.revision)
        if not commit:
            yield f"{there}, but git has no revision {version.revision}"
        elif not state.commit:
            yield f"{there}, but the suites are not in a git repository"
        elif how := _how_suites_differ(root, state, commit):
            yield f"{there} (revision {version.revision}): {how}"


def _how_suites_differ(root: Path, state: SuiteState, deployed: str) -> str:
    """The differences between the suites and a commit as text; empty if there are none."""
    if _tree(root, state.commit) == _tree(root, deployed):
        if state.changed:
            return "the files of the suites differ from it"
        return ""
    ahead, behind = (
        ask_git(root, "rev-list", "--count", f"{old}..{new}").output.strip()
        for old, new in ((deployed, state.commit), (state.commit, deployed))
    )
    if behind == "0":
        return f"the suites are {_commits(ahead)} ahead"
    if ahead == "0":
        return f"the suites are {_commits(behind)} behind"
    return f"the suites are {_commits(ahead)} ahead and {_commits(behind)} behind"


def _commits(count: str) -> str:
    if count == "1":
        return f"{count} commit"
    return f"{count} commits"


def _tree(root: Path, commit: str) -> str:
    """The hash of all files of the workspace at a commit."""
    return ask_git(root, "rev-parse", f"{commit}:./").output.strip()
