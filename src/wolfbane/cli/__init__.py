"""The ``wolfbane`` command.

Each command is imported only when it is called, so that the program starts quickly.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING

import click

from wolfbane import __version__

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

_COMMANDS = {
    "run": "Select tests and run them.",
    "again": "Repeat a recorded run, or only its failed tests.",
    "join": "Combine the records of all shares into one run.",
    "load": "Load-test API workflows with many concurrent users.",
    "watch": "Run the affected tests each time you save a file.",
    "list": "List the tests that a selection matches.",
    "steps": "List the steps of scenario suites, and where each is used.",
    "explain": "Show what is known about one test, and why a selection includes it or not.",
    "env": "Show the environments that a run can use.",
    "browsers": "Show which browsers are set up, and which are installed.",
    "machines": "Show the machines of a cluster, and what each can run.",
    "compose": "Build the command for a run, step by step.",
    "preset": "Save the arguments of a run under a name.",
    "quarantine": "Manage quarantined tests: their failures do not fail a run.",
    "history": "Show recorded runs, and the outcomes of tests over time.",
    "import": "Import reports of other tools into the history.",
    "compare": "Compare two runs: newly failing, fixed and slower tests.",
    "runs": "List the stored runs with their verdict, selection and size.",
    "clean": "Remove old runs.",
    "report": "Write a report of a recorded run.",
    "open": "Open the report of a run in a browser.",
    "show": "Print the output of a recorded run again.",
    "bridge": "Connect suites that are started by their own launcher.",
    "doctor": "Check what is installed and what is missing, and how to fix it.",
    "completion": "Print the completion script for a shell.",
    "init": "Write the suites found here to wolfbane.toml.",
    "demo": "Try Wolfbane on the sample workspace.",
}


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return [*_COMMANDS]  # 'list' is a module of this package once that command was used

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        module = importlib.import_module(f"wolfbane.cli.commands.{cmd_name}")
        command = module.command
        assert isinstance(command, click.Command)
        return command

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        from click.shell_completion import CompletionItem

        return [CompletionItem(name) for name in _COMMANDS if name.startswith(incomplete)]

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([*_COMMANDS.items()])

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and not args[0].startswith("-") and args[0] not in _COMMANDS:
            from wolfbane.errors import did_you_mean

            hint = did_you_mean(args[0], _COMMANDS)
            ctx.fail(f"there is no command '{args[0]}'; {hint}")
        return super().resolve_command(ctx, args)


@click.group(
    cls=_Commands,
    subcommand_metavar="COMMAND [ARGS]...",
    invoke_without_command=True,
    no_args_is_help=True,
    context_settings={"help_option_names": ["-h", "--help"]},
)
@click.option("--version", is_flag=True, help="Show the version and exit.")
@click.option(
    "--verbose", is_flag=True, help="With --version: also show the versions of the libraries."
)
@click.pass_context
def root(ctx: click.Context, version: bool, verbose: bool) -> None:
    """Run all test suites of a team, from any framework, and select tests in one way."""
    if version:
        click.echo(f"wolfbane {__version__}")
        if verbose:
            from wolfbane.cli.installed import installed_lines

            click.echo("\n".join(installed_lines()))
        ctx.exit()
    if verbose:
        ctx.fail("--verbose works here only with --version; commands have their own --verbose")
    if ctx.invoked_subcommand is None:
        ctx.fail("no command given; 'wolfbane --help' lists all commands")


def main() -> None:
    """The console script. It prints every error as plain text and returns its exit code."""
    import gc
    import io
    import os
    import sys

    from wolfbane.cli.streams import leave_standard_output, prepare_streams
    from wolfbane.reports.text import visible

    gc.set_threshold(100_000)  # what is read stays: a tenth of a long list's time is saved
    prepare_streams()
    try:
        if "WOLFBANE_COMPLETE" in os.environ:
            from wolfbane.cli.commands.completion import answer

            sys.exit(answer(root, os.environ["WOLFBANE_COMPLETE"], sys.argv[1:]))
        code = root(standalone_mode=False) or 0
        sys.stdout.flush()
        sys.exit(code)
    except click.exceptions.Abort:
        sys.exit(130)
    except click.ClickException as error:
        shown = io.StringIO()
        error.show(shown)
        click.echo(visible(shown.getvalue()), err=True, nl=False)
        sys.exit(2)
    except BrokenPipeError:
        leave_standard_output()
        sys.exit(141)
    except OSError as error:
        leave_standard_output()
        click.echo(f"wolfbane: {visible(str(error))}", err=True)
        sys.exit(2)
    except Exception as error:
        from wolfbane.errors import WolfbaneError

        if not isinstance(error, WolfbaneError):
            raise
        click.echo(f"wolfbane: {visible(str(error))}", err=True)
        sys.exit(error.exit_code)
