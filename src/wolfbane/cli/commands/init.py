"""``wolfbane init``."""

from __future__ import annotations

from pathlib import Path

import click

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.streams import echo
from wolfbane.errors import InputError, Problem
from wolfbane.workspace.detect import detect
from wolfbane.workspace.draft import settings_text
from wolfbane.workspace.vocabulary import SETTINGS_NAME


@click.command("init", cls=Command)
@click.argument(
    "folder", default=".", type=click.Path(path_type=Path, file_okay=False, exists=True)
)
def command(folder: Path) -> None:
    """Write the suites found in FOLDER (default: the current folder) to wolfbane.toml.

    An existing file is never overwritten.

    \b
    wolfbane init
    """
    root = folder.resolve()
    target = root / SETTINGS_NAME
    suites = detect(root, willing=True).suites
    try:
        with target.open("x", encoding="utf-8") as file:
            file.write(settings_text(root, suites))
    except FileExistsError:
        raise InputError(
            Problem("the file already exists; it was not changed", str(target))
        ) from None
    except OSError as error:
        raise InputError(Problem(f"cannot write the file: {error}", str(target))) from None
    for suite in suites:
        echo(f"suite {suite.name} (kind {suite.kind}): {', '.join(suite.paths)}")
    if not suites:
        echo("no tests were found here; the file contains an example of a suite")
    echo(f"wrote {target}")
