"""Options that a run passes to the runtimes, programs or launchers of suites."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.settings import Workspace


def suites_with_options(
    chosen: Sequence[Suite], options: Sequence[str], names: Sequence[str]
) -> list[str]:
    """The suites that get options: the named suites; without names, all selected suites.

    Raises InputError if the suites are ambiguous, or if a name is not a selected suite.
    """
    known = [suite.name for suite in chosen]
    if not options:
        if names:
            raise InputError(
                Problem("--options-for needs options to pass", hint="add them after --")
            )
        return []
    if unknown := [name for name in names if name not in known]:
        problems = (f"--options-for: suite '{name}' is not in this run" for name in unknown)
        raise InputError(*(Problem(w, hint=did_you_mean(w.split("'")[1], known)) for w in problems))
    kinds = dict.fromkeys(suite.kind for suite in chosen)
    if len(kinds) > 1 and not names:
        words = (
            f"cannot decide which suites get the passed options: "
            f"the selected suites have {len(kinds)} kinds"
        )
        hint = f"choose the suites: --options-for {known[0]}"
        raise InputError(Problem(f"{words} ({', '.join(kinds)})", hint=hint))
    return list(names) or known


def with_options(workspace: Workspace, names: Sequence[str], options: Sequence[str]) -> Workspace:
    """The workspace in which the suites with these names have additional options.

    Raises InputError for suites that accept no options.
    """
    suites, problems = [], []
    for suite in workspace.suites:
        more = options if suite.name in names else ()
        try:
            kind = find_kind(suite.kind)
            suites.append(kind.with_options(workspace.root, suite, more) if more else suite)
        except ValueError as error:
            words = f"cannot pass {' '.join(options)} to suite '{suite.name}': {error}"
            problems.append(Problem(words))
    if problems:
        raise InputError(*problems)
    return replace(workspace, settings=replace(workspace.settings, suite=suites))
