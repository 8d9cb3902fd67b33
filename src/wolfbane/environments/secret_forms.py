"""Other forms of secrets, which a command of the workspace lists."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Iterable, Sequence
from pathlib import Path

from wolfbane.errors import InputError, Problem

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
            command, cwd=root, input=lines, capture_output=True, text=True, timeout=_PATIENCE,
            check=True,
        )  # fmt: skip
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


def _failed(words: str) -> InputError:
    return InputError(Problem(f"the command 'forms' of [mask] failed: {words}"))
