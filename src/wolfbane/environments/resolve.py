"""Resolves the environments that ``--env``, ``--set`` and ``--spread`` define."""

from __future__ import annotations

import itertools
import json
import subprocess
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from msgspec.structs import replace

from wolfbane.environments.environment import Environment
from wolfbane.environments.resolution import Resolution
from wolfbane.errors import InputError, Problem
from wolfbane.workspace.settings import Workspace


def resolve(workspace: Workspace, name: str = "", given: Sequence[str] = ()) -> Environment:
    """The environment of a run. Raises InputError with everything that is wrong with it.

    ``given`` are the ``KEY=VALUE`` texts of ``--set``. Without a name, the workspace's default
    environment is used, if it has one.
    """
    return resolve_each(workspace, name, given)[0]


def resolve_each(
    workspace: Workspace,
    names: str = "",
    given: Sequence[str] = (),
    spread: Sequence[str] = (),
    *,
    labelled: bool = False,
) -> list[Environment]:
    """The environments of a run with several: ``names`` are separated by commas.

    Each is used once for every value of the parameters in ``spread``. They have labels if there are
    several, or with ``labelled``. Raises InputError with all errors.
    """
    chosen = [name.strip() for name in names.split(",") if name.strip()]
    chosen = list(dict.fromkeys(chosen)) or [workspace.settings.workspace.env]
    environments: list[Environment] = []
    problems: dict[Problem, None] = {}
    for name in chosen:
        try:
            each = _spread_out(workspace, name, given, spread=spread)
        except InputError as error:
            location = ""
            if len(chosen) > 1:
                location = f"{name}: "
            problems |= {p._replace(message=location + p.message): None for p in error.problems}
        else:
            environments += [_labelled(environment, values, chosen) for environment, values in each]
    if problems:
        raise InputError(*problems)
    settings = workspace.settings.mask
    secrets = [secret for each in environments for secret in each.secrets]
    forms = forms_of(settings.forms, workspace.home, secrets)
    patterns = tuple(settings.patterns)
    environments = [replace(each, forms=forms, patterns=patterns) for each in environments]
    if len(environments) == 1 and not labelled:
        return [replace(environments[0], label="")]
    return environments


def _labelled(
    environment: Environment, values: Mapping[str, str], chosen: Sequence[str]
) -> Environment:
    settings = [f"{name}={value}" for name, value in values.items()]
    if environment.name and (len(chosen) > 1 or not settings):
        named = [environment.name]
    else:
        named = []
    return replace(environment, label=",".join([*named, *settings]))


def _spread_out(
    workspace: Workspace, name: str, given: Sequence[str], spread: Sequence[str]
) -> list[tuple[Environment, dict[str, str]]]:
    """An environment for every combination of the spread values, and these values."""
    if not spread:
        return [(Resolution(workspace, name, given, one_of={}).run(), {})]
    values = Resolution(workspace, name, given, one_of={}).several(spread)
    combinations = []
    for combination in itertools.product(*values.values()):
        own = dict(zip(values, combination))
        combinations.append((Resolution(workspace, name, given, one_of=own).run(), own))
    return combinations


_PATIENCE = 30
"""Seconds."""


def forms_of(command: Sequence[str], root: Path, secrets: Iterable[str]) -> tuple[str, ...]:
    """The forms that a command lists. Raises InputError if it fails.

    The command reads the secrets as JSON strings, one per line, and prints forms in the same way.
    """
    given = sorted({secret for secret in secrets if secret})
    if not command or not given:
        return ()
    lines = "".join(f"{json.dumps(secret)}\n" for secret in given)
    try:
        done = subprocess.run(
            command,
            cwd=root,
            input=lines,
            capture_output=True,
            text=True,
            timeout=_PATIENCE,
            check=True,
        )
        forms = [json.loads(line) for line in done.stdout.splitlines() if line.strip()]
    except subprocess.CalledProcessError as error:
        # Its output is not shown, because it may contain secrets.
        raise _failed(f"it ended with exit code {error.returncode}") from None
    except subprocess.TimeoutExpired:
        raise _failed(f"it ran longer than {_PATIENCE} s") from None
    except OSError as error:
        raise _failed(str(error)) from None
    except ValueError:
        raise _failed("it must print JSON strings, one per line") from None
    if not all(isinstance(form, str) for form in forms):
        raise _failed("it must print JSON strings, one per line")
    return tuple(form for form in forms if form)


def _failed(message: str) -> InputError:
    return InputError(Problem(f"the command 'forms' of [mask] failed: {message}"))
