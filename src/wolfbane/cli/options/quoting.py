"""Quotes a command as one line for a shell."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence

from wolfbane.errors import InputError, Problem

SHELLS = ("posix", "pwsh", "cmd")
_PLAIN = re.compile(r"[\w./\\:=+-]+", re.ASCII)


def quoted(arguments: Sequence[str], shell: str) -> str:
    """The command line for these arguments, for a POSIX shell, pwsh, or the command prompt.

    Raises InputError if the shell cannot express an argument.
    """
    if shell == "posix":
        return shlex.join(arguments)
    for argument in arguments:
        if "\n" in argument and shell == "cmd":
            raise InputError(
                Problem(f"the Windows command prompt cannot express this argument: {argument!r}")
            )
    if shell == "pwsh":
        return _pwsh(arguments)
    return " ".join(map(_prompt, arguments))


def _pwsh(arguments: Sequence[str]) -> str:
    """In single quotes, in which only the quote itself is doubled.

    A double quote reaches programs in different ways in different versions; after ``--%``, all of
    them pass the line on unchanged.
    """
    from subprocess import list2cmdline

    if any('"' in argument for argument in arguments):
        first, *rest = arguments
        return f"{first} --% {list2cmdline(rest)}"
    return " ".join(
        text if _PLAIN.fullmatch(text) else "'" + text.replace("'", "''") + "'"
        for text in arguments
    )


def _prompt(argument: str) -> str:
    """Quoted as programs read it, then with a caret before all characters that the prompt
    interprets.

    The caret before ``%`` prevents a variable; in a batch file, ``%%`` does.
    """
    from subprocess import list2cmdline

    if _PLAIN.fullmatch(argument):
        return argument
    text = list2cmdline([argument])
    if not text.startswith('"'):
        text = f'"{text}"' if not text.endswith("\\") else text
    return re.sub(r'([()%!^"<>&|])', r"^\1", text)
