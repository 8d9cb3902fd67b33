"""Finds the suites that match the version deployed in an environment."""

from __future__ import annotations

from wolfbane.environments import Environment
from wolfbane.environments.deployed import ask_version
from wolfbane.errors import BlockedError, InputError, Problem
from wolfbane.workspace.git import commit_of
from wolfbane.workspace.settings import Workspace

DEPLOYED = "deployed"
"""The value of ``--at`` that means the revision of the version deployed in an environment."""


def deployed_revision(here: Workspace, environment: Environment) -> str:
    """The git revision of the version that runs in an environment.

    Raises InputError if the environment does not define how to read its version, if the run itself
    starts the system, or if git has no such revision. Raises BlockedError if there is no response.
    """
    name = "the environment"
    if environment.name:
        name = f"environment '{environment.name}'"
    source = environment.version
    if source is None:
        others = [
            each
            for each, table in here.settings.env.items()
            if isinstance(table.get("version"), dict)
        ]
        hint = "see docs/revisions.md"
        if others:
            hint = f"choose one of these with --env: {', '.join(others)}"
        raise InputError(Problem(f"--at {DEPLOYED}: {name} does not define 'version'", hint=hint))
    own = [each for each, port in environment.ports.items() if f":{port}" in " ".join(source.texts)]
    if own and here.settings.service[own[0]].port == 0:
        message = f"--at {DEPLOYED}: {name} reads its version from service '{own[0]}'"
        raise InputError(Problem(f"{message}, but the run itself starts this service"))
    version = ask_version(environment, here.home)
    if version.trouble:
        message = f"--at {DEPLOYED}: the version of {name} is unknown: {version.trouble}"
        raise BlockedError(message)
    why = f"--at {DEPLOYED}: {name} has version {version.text}, revision {version.revision}"
    commit_of(here.root, version.revision, why)
    return version.revision
