"""``wolfbane demo``."""

from __future__ import annotations

import shlex
import tempfile
from pathlib import Path

import click

from wolfbane.cli.commands.run import command as run
from wolfbane.cli.options.base_command import Command
from wolfbane.cli.streams import echo
from wolfbane.demo import copy_harbour


@click.command("demo", cls=Command)
@click.option(
    "--into",
    type=click.Path(path_type=Path),
    metavar="FOLDER",
    help="The folder for the sample workspace: "
    "a new or empty folder. [default: a temporary folder]",
)
@click.pass_context
def command(ctx: click.Context, into: Path | None) -> None:
    """Try Wolfbane on a sample workspace: the software of a small harbour.

    Copies the workspace to a folder, runs its tests, and suggests commands to try next. Some tests
    fail and two are unfinished on purpose. Exits with code 0 if the tests ran, even if some failed.

    \b
    wolfbane demo
    wolfbane demo --into harbour
    """
    folder = copy_harbour((into or Path(tempfile.mkdtemp(prefix="wolfbane-"))).resolve())
    echo(f"Copied the sample workspace 'Saltmarsh Harbour' to {folder}\n")
    code = run.main(["--workspace", str(folder)], standalone_mode=False)
    echo(f"""
The failures are intended. Commands to try next:

  cd {shlex.quote(str(folder))}
  wolfbane list --by tag                        list the tests by tag
  wolfbane run --tag smoke                      run every suite's smoke tests
  wolfbane run --pick 'category:billing and not tag:slow'
  wolfbane explain test_catamaran_in_winter     explain one test
  wolfbane again --failed                       run only the failed tests again
  wolfbane list --at v1.3.0 --suite workflows   list the suite from a git tag
  wolfbane run --browser phone --log protocol   one browser, with its commands
  wolfbane run --preset machines                each machine, side by side
  wolfbane env show staging                     show what an environment sets
  wolfbane run --everything                     include the unfinished tests
  wolfbane show last --verbose                  print the last run again in full
  wolfbane open                                 open its report as a page
  wolfbane watch tests/fees                     run tests affected by each save""")
    ctx.exit(0 if code in (0, 1) else code)
