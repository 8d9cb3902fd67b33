"""``wolfbane demo``."""

from __future__ import annotations

import shlex
import tempfile
from pathlib import Path

import click

from wolfbane.cli.commands import Command
from wolfbane.cli.run import command as run
from wolfbane.demo import copy_harbour


@click.command("demo", cls=Command)
@click.option(
    "--into", type=click.Path(path_type=Path), metavar="FOLDER",
    help="Where to put the workspace: a new or empty folder. [default: a temporary one]",
)  # fmt: skip
@click.pass_context
def command(ctx: click.Context, into: Path | None) -> None:
    """Try Wolfbane on the sample workspace, a small tidal harbour.

    Copies it to a folder, runs all of it, and says what to try next. Some of its tests fail
    and two are unfinished, so that there is something to see. Exits 0 when the harbour ran.

    \b
    wolfbane demo
    wolfbane demo --into harbour
    """
    folder = copy_harbour((into or Path(tempfile.mkdtemp(prefix="wolfbane-"))).resolve())
    click.echo(f"Saltmarsh Harbour is in {folder}\n")
    code = run.main(["--workspace", str(folder)], standalone_mode=False)
    click.echo(f"""
What fails, fails on purpose. What to try next:

  cd {shlex.quote(str(folder))}
  wolfbane list --by tag                        what there is, by tag
  wolfbane run --tag smoke                      the smoke tests of every suite
  wolfbane run --pick 'category:billing and not tag:slow'
  wolfbane explain test_catamaran_in_winter     what is known of one test
  wolfbane again --failed                       only what failed, once more
  wolfbane list --at v1.3.0 --suite workflows   the suite as it was at a tag
  wolfbane run --browser phone --log protocol   one browser, and each command to it
  wolfbane run --preset machines                each machine of the quay, side by side
  wolfbane env show staging                     where a run would go, and with what
  wolfbane run --everything                     the unfinished ones too
  wolfbane show last --verbose                  the last run again, in full
  wolfbane open                                 its report, as a page
  wolfbane watch tests/fees                     run what a saved file reaches""")
    ctx.exit(0 if code in (0, 1) else code)
