"""``wolfbane bridge``."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wolfbane.cli.bridge_learn import learn
from wolfbane.cli.commands import CommandGroup
from wolfbane.cli.disk_words import on_disk
from wolfbane.cli.target_options import one_environment_options
from wolfbane.cli.values import ExistingFile
from wolfbane.cli.workspace_option import workspace_at, workspace_option
from wolfbane.errors import InputError, Problem, did_you_mean

if TYPE_CHECKING:
    from wolfbane.cli.target_options import Point
    from wolfbane.kinds.bridge.draft import Draft

_LINE = "a line with a {}, {} where it changes"
_COMMAND = """\
How is it started? One command line, with these where they belong:
  {names}   which tests to run      {file}    the file they are in, or {files}
  {report}  where to put a report   {browser} and {param.NAME}, if it takes any"""


@click.group("bridge", cls=CommandGroup)
def command() -> None:
    """Connect suites that have their own launcher."""


command.add_command(learn)


@command.command("check")
@click.argument("file", type=ExistingFile(), shell_complete=on_disk(".toml"))
@one_environment_options
@workspace_option
@click.pass_context
def check(ctx: click.Context, file: Path, point: Point, workspace: Path | None) -> None:
    """Try the bridge in FILE on a suite that uses it, and print a line for each check.

    Runs all of the suite's tests, one alone, some, and one that fails. Exits 1 where something
    does not hold.

    \b
    wolfbane bridge check bridges/ledger.toml
    wolfbane bridge check bridges/ledger.toml --env local --set house=north
    """
    from wolfbane.app.bridge_check import check_bridge
    from wolfbane.kinds.bridge.settings import BridgeSuite
    from wolfbane.reports.doctor import print_findings
    from wolfbane.reports.style import make_console
    from wolfbane.workspace.diagnosis import State

    opened = workspace_at(workspace)
    bridged = [suite for suite in opened.suites if isinstance(suite, BridgeSuite)]
    suites = [s for s in bridged if (opened.root / s.bridge).resolve() == file.resolve()]
    if not suites:
        named = [suite.bridge for suite in bridged]
        hint = did_you_mean(str(file), named) or "name it as a suite's 'bridge' in wolfbane.toml"
        raise InputError(Problem(f"no suite names the bridge {file}", hint=hint))
    environments = point(opened)
    findings = [each for suite in suites for each in check_bridge(opened, suite, environments)]
    print_findings(make_console(), opened, findings)
    ctx.exit(1 if any(finding.state is State.WRONG for finding in findings) else 0)


@command.command("new")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
def new(file: Path) -> None:
    """Ask a few questions about a launcher, and write a bridge to begin with to FILE.

    An existing file is never overwritten.

    \b
    wolfbane bridge new bridges/ledger.toml
    """
    from wolfbane.kinds.bridge.draft import written

    if file.exists():
        raise InputError(Problem("it is there already, and stays as it is", str(file)))
    text = written(_ask())
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text, encoding="utf-8")
    except OSError as error:
        raise InputError(Problem(f"cannot be written: {error}", str(file))) from None
    click.echo(f"\nwritten: {file}\n\nName it in wolfbane.toml:\n")
    click.echo(f'  [[suite]]\n  name = "{file.stem}"\n  kind = "bridge"\n  paths = ["..."]')
    click.echo(f'  bridge = "{file.as_posix()}"')
    click.echo('  # folder = "..."               where the launcher is started, if not here\n')
    click.echo("and see what holds of it:\n")
    click.echo(f"  {shlex.join(['wolfbane', 'bridge', 'check', str(file)])}")


def _ask() -> Draft:
    """The questions, each after what was answered before."""
    from wolfbane.kinds.bridge.draft import ENDINGS, FORMATS, LISTS, NAMES, PRINTED, WAYS, Draft

    answers: dict[str, Any] = {"files": click.prompt("Which files hold tests (globs)").split()}
    way = answers["way"] = _one_of("How are tests found?", WAYS)
    if way == "lines":
        answers["test_line"] = click.prompt(
            _capital(_LINE.format("test", "NAME")), value_proc=_has("NAME")
        )
        answers["group_line"] = _or_none(_LINE.format("group", "NAME"), _has("NAME"))
        words = "TAG (or KEY and VALUE)"
        answers["tag_line"] = _or_none(_LINE.format("tag", words), _has("TAG", "KEY"))
    elif way == "query":
        answers["grammar"] = click.prompt("The language (java, javascript, python, ...)")
    elif way == "listing":
        answers["list_command"] = click.prompt(
            "The command that lists tests, with {file} if it lists those of one", value_proc=_line
        )
        answers["list_format"] = _one_of("What does it print?", LISTS)
    click.echo(_COMMAND)
    command = answers["command"] = click.prompt("Command", value_proc=_line)
    answers["names"] = "files" if way == "files" else _one_of("How does it take names?", NAMES)
    if answers["names"] == "each":
        answers["option"] = _or_none("the option before each name")
    if answers["names"] != "files" and (way == "query" or answers.get("group_line")):
        answers["name"] = click.prompt(
            "What does it call a test, by {name}, {group} and {file}", default="{group:.}{name}"
        )
    answers["failed"] = click.prompt("Its exit code if tests fail", default=1)
    answers["format"] = _one_of("What is its report?", FORMATS)
    if "{report}" in command:
        answers["report"] = f"{{scratch}}/report{ENDINGS.get(answers['format'], '')}"
    elif answers["format"] not in PRINTED or "{scratch}" in command:
        answers["report"] = click.prompt("Where is it (a path or glob, from the suite's folder)")
    return Draft(**answers)


def _one_of(question: str, words: Mapping[str, str]) -> str:
    """One of these words, shown with their meanings; the first if nothing is typed."""
    click.echo(question)
    for word, meaning in words.items():
        click.echo(f"  {word:<8} {meaning}")
    choice = click.Choice(list(words))
    answer: str = click.prompt("Which", type=choice, default=next(iter(words)), show_choices=False)
    return answer


def _or_none(question: str, check: Callable[[str], str] = str.strip) -> str:
    text = f"{_capital(question)} (or nothing)"
    answer: str = click.prompt(
        text, default="", show_default=False, value_proc=lambda text: text and check(text)
    )
    return answer


def _has(*words: str) -> Callable[[str], str]:
    """Ask again where none of the words is in the answer."""

    def check(text: str) -> str:
        if not any(re.search(rf"\b{word}\b", text) for word in words):
            raise click.BadParameter(f"there is no {' or '.join(words)} in it")
        return text.strip()

    return check


def _line(text: str) -> str:
    """Ask again where a command line's quotes do not match."""
    try:
        shlex.split(text)
    except ValueError as error:
        raise click.BadParameter(str(error)) from None
    return text


def _capital(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}"
