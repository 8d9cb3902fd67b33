"""``wolfbane bridge learn``."""

from __future__ import annotations

import shlex
import sys
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options.path_completion import on_disk
from wolfbane.cli.options.values import ExistingFile, duration
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo
from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.workspace.vocabulary import SETTINGS_NAME

if TYPE_CHECKING:
    from wolfbane.app.bridges.best_reading import Commands
    from wolfbane.app.bridges.learn import Learned, UnknownResults
    from wolfbane.app.bridges.learned_build import Build
    from wolfbane.app.bridges.planted_failures import May
    from wolfbane.workspace.settings import Workspace

_TEXTS = ("all", "one", "report", "list", "name", "group", "reason")
_OUTCOMES = ("passed", "failed", "skipped")
_LINES = 20
"""Lines of a launcher's output that are shown before a question."""


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
    "--list", "listing", metavar="COMMAND", default="",
    help="The command that lists the tests, if they cannot be found in the sources.",
)  # fmt: skip
@click.option(
    "--limit", metavar="TIME", default="10m", callback=duration,
    help="Time limit for the command that runs all tests. [default: 10m]",
)  # fmt: skip
@click.option(
    "--answers", type=ExistingFile(), metavar="FILE", shell_complete=on_disk(".toml"),
    help="Read the answers 'all', 'one', 'report', 'list', 'name', 'group', 'reason', 'passed', "
    "'failed' and 'skipped' from a TOML file.",
)  # fmt: skip
@click.option("--yes", is_flag=True, help="Answer yes to every question.")
@workspace_option
@click.pass_context
def learn(
    ctx: click.Context, file: Path | None, all_tests: str | None, one: str | None, report: str,
    listing: str, limit: float, answers: Path | None, yes: bool, workspace: Path | None,
) -> None:  # fmt: skip
    """Create a bridge from the commands that you already use, and write it to FILE.

    Runs the commands in a copy of the folder, finds the tests in the report and in the sources,
    tries out how to name several tests, and checks the bridge. Exits 1 if a check fails.

    \b
    wolfbane bridge learn
    wolfbane bridge learn bridges/ledger.toml --all './check' --one './check --only berths.fits'
    wolfbane bridge learn --answers answers.toml --yes
    """
    from wolfbane.app.bridges.best_reading import Commands

    opened = workspace_at(workspace)
    folder = opened.root if workspace else Path.cwd().resolve()
    known, words = _answers(answers)
    all_tests = all_tests or known.get("all") or _asked("The command that runs all tests", "--all")
    one = one or known.get("one") or _asked("The command that runs one test", "--one")

    def may(question: str) -> bool:
        return yes or (sys.stdin.isatty() and click.confirm(question, True))

    listing = listing or known.get("list", "")
    build = _build(all_tests, one, folder, may)
    commands = Commands(
        _split("--all", all_tests, folder, may), _split("--one", one, folder, may),
        report or known.get("report", ""),
        _split("--list", listing, folder, may) if listing else (), limit, yes, words,
        known.get("name", ""), known.get("group", ""), known.get("reason", ""), build,
    )  # fmt: skip
    place = file or Path("bridges", f"{Path(shlex.split(all_tests)[0]).stem}.toml")
    if place.exists():
        raise InputError(Problem("the file already exists; it was not changed", str(place)))
    if not place.resolve().is_relative_to(opened.root):
        raise InputError(Problem(f"the file is outside the workspace {opened.root}", str(place)))
    learned = _learned(folder, commands, may)
    _write(place, learned.text)
    echo(f"\nwrote {place}")
    _show(opened, learned)
    if not learned.holds:
        ctx.exit(1)
    _add_suite(opened, folder.relative_to(opened.root), place, learned, yes=yes)


def _build(all_tests: str, one: str, folder: Path, may: May) -> Build | None:
    """The build that both commands start with, if the user agrees to run it once."""
    from wolfbane.app.bridges.learned_build import Build
    from wolfbane.kinds.bridge.learning.shells import build_before, split

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
        listing = _asked("The command that lists the tests", "--list")
        again = replace(commands, listing=_split("--list", listing, folder, may))
    except UnknownResults as error:
        if not sys.stdin.isatty() or not error.lines or commands.words:
            raise
        echo(f"\n{error}")
        again = replace(commands, words=_asked_words(error), name=_asked_name(commands),
                        group=_asked_part("group of this test"),
                        reason=_asked_part("reason of a failure"))  # fmt: skip
    return _learned(folder, again, may)


def _asked_words(error: UnknownResults) -> dict[str, list[str]]:
    """The launcher's words for outcomes, selected from its output."""
    echo("\nThe output for all tests. Lines with * are also in the output for the one test:\n")
    for line, alone in error.lines[:_LINES]:
        echo(f"  {'*' if alone else ' '} {line}")
    if len(error.lines) > _LINES:
        echo(f"    and {len(error.lines) - _LINES} more lines")
    echo("\nWhich words or marks show the outcome of a test? Separate several with blanks.")
    words = {
        outcome: click.prompt(f"  {outcome}", default="", show_default=False).split()
        for outcome in _OUTCOMES
    }
    return {outcome: found for outcome, found in words.items() if found}


def _asked_name(commands: Commands) -> str:
    """The name of the test that the command for one test runs, as the output shows it."""
    question = "The name of the one test, exactly as the output shows it"
    name: str = click.prompt(question, default=commands.one[-1])
    return name


def _asked_part(part: str) -> str:
    """A part of the lines, if they have it."""
    question = f"The {part}, exactly as the output shows it (leave empty if there is none)"
    text: str = click.prompt(question, default="", show_default=False)
    return text


def _asked(question: str, option: str) -> str:
    if not sys.stdin.isatty():
        raise InputError(Problem(f"{question.lower()} was not given", hint=f"use {option}"))
    answer: str = click.prompt(question)
    return answer


def _answers(file: Path | None) -> tuple[dict[str, str], dict[str, list[str]]]:
    """The commands and names of a file, and the words for each outcome."""
    if file is None:
        return {}, {}
    try:
        found = tomllib.loads(file.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise InputError(Problem(f"cannot read the file: {error}", str(file))) from None
    texts: dict[str, str] = {}
    words: dict[str, list[str]] = {}
    for key, value in found.items():
        if key in _OUTCOMES:
            words[key] = value.split() if isinstance(value, str) else value
            if not isinstance(words[key], list) or not all(isinstance(w, str) for w in words[key]):
                raise InputError(Problem(f"'{key}' must be a list of texts", str(file)))
        elif key not in _TEXTS:
            hint = did_you_mean(key, [*_TEXTS, *_OUTCOMES])
            raise InputError(Problem(f"unknown key '{key}'", str(file), hint=hint))
        elif not isinstance(value, str):
            raise InputError(Problem(f"'{key}' must be a text", str(file)))
        else:
            texts[key] = value
    return texts, words


def _split(option: str, line: str, folder: Path, may: May) -> list[str]:
    """The arguments of a command line; a line that needs a shell runs in one if the user agrees."""
    from wolfbane.kinds.bridge.learning.shells import NeedsScript, needs_shell, split, through_shell

    try:
        words = split(line, folder)
    except ValueError as error:
        raise InputError(Problem(f"{option} '{line}': {error}")) from None
    if not words:
        raise InputError(Problem(f"{option} is empty"))
    if not needs_shell(line):
        return words
    try:
        made = through_shell(line, folder)
    except NeedsScript as error:
        problem = f"{option} '{line}' needs a shell, but no shell can be used: {error}"
        raise InputError(Problem(problem, hint="put the command into a script")) from None
    if not may(f"{option} needs a shell. Run this command: {shlex.join(made)}?"):
        raise InputError(Problem(f"{option} '{line}' needs a shell", hint="use --yes to allow it"))
    return made


def _write(place: Path, text: str) -> None:
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(text, encoding="utf-8")
    except OSError as error:
        raise InputError(Problem(f"cannot write the file: {error}", str(place))) from None


def _show(found: Workspace, learned: Learned) -> None:
    from wolfbane.reports.console.doctor import print_findings
    from wolfbane.reports.console.style import make_console

    print_findings(make_console(), found, learned.findings)


def _suite_name(found: Workspace, here: Path, place: Path) -> str:
    """The folder of the launcher, or the bridge file: a name that no suite has."""
    wanted = here.name or place.stem
    taken = {suite.name for suite in found.settings.suite}
    names = [wanted, place.stem, *(f"{wanted}-{number}" for number in range(2, len(taken) + 3))]
    return next(name for name in names if name not in taken)


def _add_suite(found: Workspace, here: Path, place: Path, learned: Learned, *, yes: bool) -> None:
    """Add the suite to the settings if the user agrees; otherwise, print the lines to add.

    ``here`` is the folder of the launcher, relative to the workspace.
    """
    paths = ", ".join(f'"{(here / path).as_posix()}"' for path in learned.paths)
    bridge = place.resolve().relative_to(found.root).as_posix()
    name = _suite_name(found, here, place)
    suite = f'[[suite]]\nname = "{name}"\nkind = "bridge"\npaths = [{paths}]\n'
    suite += f'bridge = "{bridge}"\n'
    if build := learned.build:
        from wolfbane.kinds.bridge.toml_text import toml_list

        suite += f"build = {toml_list([build.command])}\n"
        for key, globs in (("inputs", build.inputs), ("outputs", build.outputs)):
            suite += f"{key} = {toml_list([(here / glob).as_posix() for glob in globs])}\n"
    if here != Path():
        suite += f'folder = "{here.as_posix()}"\n'
    from wolfbane.workspace.draft import settings_text

    file = found.file or found.root / SETTINGS_NAME
    question = f"Add the suite to {file.name}?"
    if not (yes or (sys.stdin.isatty() and click.confirm(question, True))):
        echo(f"\nAdd this to {file.name}:\n\n{suite}")
        return
    before = ""
    if found.file is not None:
        before = file.read_text(encoding="utf-8")
    elif found.suites:  # those that run without settings have to run with them, too
        before = settings_text(found.root, found.suites)
    before = f"{before.rstrip()}\n\n" if before else ""
    file.write_text(f"{before}{suite}", encoding="utf-8")
    echo(f"added suite {name} to {file.name}")
