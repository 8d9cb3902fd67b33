"""``wolfbane bridge learn``."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.bridge_questions import (
    ask,
    ask_name,
    ask_part,
    ask_vocabulary,
    read_answers,
    split_command,
)
from wolfbane.cli.options.path_completion import on_disk
from wolfbane.cli.options.values import ExistingFile, duration
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo
from wolfbane.errors import InputError, Problem
from wolfbane.workspace.vocabulary import SETTINGS_NAME

if TYPE_CHECKING:
    from wolfbane.app.bridges.best_reading import Commands
    from wolfbane.app.bridges.learn import Learned
    from wolfbane.app.bridges.learned_build import Build
    from wolfbane.app.bridges.planted_failures import May
    from wolfbane.workspace.settings import Workspace


@click.command("learn")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False), required=False)
@click.option("--all", "all_tests", metavar="COMMAND", help="The command that runs all tests.")
@click.option(
    "--one", metavar="COMMAND", help="The command that runs one test, exactly as you type it."
)
@click.option(
    "--report", metavar="PATH", default="", help="The report file that the --all command writes."
)
@click.option(
    "--list",
    "listing",
    metavar="COMMAND",
    default="",
    help="The command that lists the tests, if they cannot be found in the sources.",
)
@click.option(
    "--limit",
    metavar="TIME",
    default="10m",
    callback=duration,
    help="Time limit for the command that runs all tests. [default: 10m]",
)
@click.option(
    "--answers",
    type=ExistingFile(),
    metavar="FILE",
    shell_complete=on_disk(".toml"),
    help="Read the answers 'all', 'one', 'report', 'list', 'name', 'group', 'reason', 'passed', "
    "'failed' and 'skipped' from a TOML file.",
)
@click.option("--yes", is_flag=True, help="Answer yes to every question.")
@workspace_option
@click.pass_context
def learn(
    ctx: click.Context,
    file: Path | None,
    all_tests: str | None,
    one: str | None,
    report: str,
    listing: str,
    limit: float,
    answers: Path | None,
    yes: bool,
    workspace: Path | None,
) -> None:
    """Create a bridge from the commands that you already use, and write it to FILE.

    Runs the commands in a copy of the folder, finds the tests in the report and in the sources,
    tries out how to name several tests, and checks the bridge. Exits 1 if a check fails.

    \b
    wolfbane bridge learn
    wolfbane bridge learn bridges/ledger.toml --all './check' --one './check --only berths.fits'
    wolfbane bridge learn --answers answers.toml --yes
    """
    opened = workspace_at(workspace)
    if workspace:
        folder = opened.root
    else:
        folder = Path.cwd().resolve()

    def may(question: str) -> bool:
        return yes or (sys.stdin.isatty() and click.confirm(question, True))

    given = {"all": all_tests or "", "one": one or "", "report": report, "list": listing}
    commands, program = _commands(given, answers, folder, limit=limit, large=yes, may=may)
    path = file or Path("bridges", f"{program}.toml")
    if path.exists():
        raise InputError(Problem("the file already exists; it was not changed", str(path)))
    if not path.resolve().is_relative_to(opened.root):
        raise InputError(Problem(f"the file is outside the workspace {opened.root}", str(path)))
    learned = _learned(folder, commands, may)
    _write(path, learned.text)
    echo(f"\nwrote {path}")
    _show(opened, learned)
    if not learned.holds:
        ctx.exit(1)
    _add_suite(opened, folder.relative_to(opened.root), path, learned=learned, yes=yes)


def _commands(
    given: Mapping[str, str],
    answers: Path | None,
    folder: Path,
    *,
    limit: float,
    large: bool,
    may: May,
) -> tuple[Commands, str]:
    """The commands from the options, from a file with answers, or from the user at a terminal.

    Also returns the name of the program that the first one starts with.
    """
    from wolfbane.app.bridges.best_reading import Commands

    known, vocabulary = read_answers(answers)
    known |= {key: text for key, text in given.items() if text}
    all_tests = known.get("all") or ask("The command that runs all tests", "--all")
    one = known.get("one") or ask("The command that runs one test", "--one")
    listing = known.get("list", "")
    build = _build(all_tests, one, folder, may=may)
    commands = Commands(
        all_tests=split_command("--all", all_tests, folder, may=may),
        one=split_command("--one", one, folder, may=may),
        report=known.get("report", ""),
        listing=split_command("--list", listing, folder, may=may) if listing else (),
        limit=limit,
        large=large,
        vocabulary=vocabulary,
        name=known.get("name", ""),
        group=known.get("group", ""),
        reason=known.get("reason", ""),
        build=build,
    )
    return commands, Path(shlex.split(all_tests)[0]).stem


def _build(all_tests: str, one: str, folder: Path, may: May) -> Build | None:
    """The build that both commands start with, if the user agrees to run it once."""
    from wolfbane.app.bridges import build_before, split
    from wolfbane.app.bridges.learned_build import Build

    try:
        for_all, for_one = build_before(all_tests), build_before(one)
        if for_all is None or for_one is None or for_all[0] != for_one[0]:
            return None
        (command, rest), rest_of_one = for_all, for_one[1]
        question = f"Both commands first run '{command}'. Run it once, as the build of the suite?"
        if may(question):
            return Build(command, split(rest, folder), split(rest_of_one, folder))
    except ValueError:  # quotes that do not match: reported later
        pass
    return None


def _learned(folder: Path, commands: Commands, may: May) -> Learned:
    """The bridge. A user at a terminal is asked for a list of the tests, or for the words that the
    launcher uses, if the bridge needs them.
    """
    from msgspec.structs import replace

    from wolfbane.app.bridges.learn import UnknownResults, UnknownTests
    from wolfbane.app.bridges.learn import learn as learn_bridge

    try:
        return learn_bridge(folder, commands, click.echo, may)
    except UnknownTests as error:
        if not sys.stdin.isatty():
            raise
        echo(f"\n{error}")
        listing = ask("The command that lists the tests", "--list")
        again = replace(commands, listing=split_command("--list", listing, folder, may=may))
    except UnknownResults as error:
        if not sys.stdin.isatty() or not error.lines or commands.vocabulary:
            raise
        echo(f"\n{error}")
        again = replace(
            commands,
            vocabulary=ask_vocabulary(error),
            name=ask_name(commands),
            group=ask_part("group of this test"),
            reason=ask_part("reason of a failure"),
        )
    return _learned(folder, again, may)


def _write(target: Path, text: str) -> None:
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text, encoding="utf-8")
    except OSError as error:
        raise InputError(Problem(f"cannot write the file: {error}", str(target))) from None


def _show(workspace: Workspace, learned: Learned) -> None:
    from wolfbane.reports.console.doctor import print_findings
    from wolfbane.reports.console.style import make_console

    print_findings(make_console(), workspace, learned.findings)


def _suite_name(workspace: Workspace, here: Path, target: Path) -> str:
    """The folder of the launcher, or the bridge file: a name that no suite has."""
    wanted = here.name or target.stem
    taken = {suite.name for suite in workspace.settings.suite}
    names = [wanted, target.stem, *(f"{wanted}-{number}" for number in range(2, len(taken) + 3))]
    return next(name for name in names if name not in taken)


def _add_suite(
    workspace: Workspace, here: Path, target: Path, learned: Learned, *, yes: bool
) -> None:
    """Add the suite to the settings if the user agrees; otherwise, print the lines to add.

    ``here`` is the folder of the launcher, relative to the workspace.
    """
    paths = ", ".join(f'"{(here / path).as_posix()}"' for path in learned.paths)
    bridge = target.resolve().relative_to(workspace.root).as_posix()
    name = _suite_name(workspace, here, target)
    suite = f'[[suite]]\nname = "{name}"\nkind = "bridge"\npaths = [{paths}]\n'
    suite += f'bridge = "{bridge}"\n'
    if build := learned.build:
        from wolfbane.app.bridges import toml_list

        suite += f"build = {toml_list([build.command])}\n"
        for key, globs in (("inputs", build.inputs), ("outputs", build.outputs)):
            suite += f"{key} = {toml_list([(here / glob).as_posix() for glob in globs])}\n"
    if here != Path():
        suite += f'folder = "{here.as_posix()}"\n'
    from wolfbane.workspace.draft import settings_text

    file = workspace.file or workspace.root / SETTINGS_NAME
    question = f"Add the suite to {file.name}?"
    if not (yes or (sys.stdin.isatty() and click.confirm(question, True))):
        echo(f"\nAdd this to {file.name}:\n\n{suite}")
        return
    before = ""
    if workspace.file is not None:
        before = file.read_text(encoding="utf-8")
    elif workspace.suites:  # those that run without settings have to run with them, too
        before = settings_text(workspace.root, workspace.suites)
    before = f"{before.rstrip()}\n\n" if before else ""
    file.write_text(f"{before}{suite}", encoding="utf-8")
    echo(f"added suite {name} to {file.name}")
