"""``wolfbane bridge``."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wolfbane.cli.commands.bridge_learn import learn
from wolfbane.cli.options.base_command import CommandGroup
from wolfbane.cli.options.path_completion import on_disk
from wolfbane.cli.options.target_options import one_environment_options
from wolfbane.cli.options.values import ExistingFile
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo
from wolfbane.errors import InputError, Problem, did_you_mean

if TYPE_CHECKING:
    from wolfbane.app.bridges import Draft
    from wolfbane.cli.options.target_options import Point

_LINE = "a line that starts a {}, with {} in place of the part that varies"
_COMMAND = """\
How is the launcher started? Enter one command line with these placeholders:
  {names}   the tests to run        {file}    the file with them, or {files}
  {report}  the report to write     {browser} and {param.NAME}, if supported"""


@click.group("bridge", cls=CommandGroup)
def command() -> None:
    """Connect suites that are started by their own launcher.

    \b
    wolfbane bridge learn
    wolfbane bridge check bridges/ledger.toml
    """


command.add_command(learn)


@command.command("check")
@click.argument("file", type=ExistingFile(), shell_complete=on_disk(".toml"))
@one_environment_options
@workspace_option
@click.pass_context
def check(ctx: click.Context, file: Path, point: Point, workspace: Path | None) -> None:
    """Check the bridge in FILE with a suite that uses it. Prints one line for each check.

    Runs all tests of the suite, then one test alone, several tests, and a failing test. Exits 1 if
    a check fails.

    \b
    wolfbane bridge check bridges/ledger.toml
    wolfbane bridge check bridges/ledger.toml --env local --set house=north
    """
    from wolfbane.app.bridges import BridgeSuite
    from wolfbane.app.bridges.bridge_check import check_bridge
    from wolfbane.reports.console.doctor import print_findings
    from wolfbane.reports.console.style import make_console
    from wolfbane.workspace.diagnosis import State

    opened = workspace_at(workspace)
    bridged = [suite for suite in opened.suites if isinstance(suite, BridgeSuite)]
    suites = [s for s in bridged if (opened.root / s.bridge).resolve() == file.resolve()]
    if not suites:
        named = [suite.bridge for suite in bridged]
        hint = did_you_mean(str(file), named) or (
            "set it as the 'bridge' of a suite in wolfbane.toml"
        )
        raise InputError(Problem(f"no suite uses the bridge {file}", hint=hint))
    environments = point(opened)
    findings = [each for suite in suites for each in check_bridge(opened, suite, environments)]
    print_findings(make_console(), opened, findings)
    ctx.exit(1 if any(finding.state is State.WRONG for finding in findings) else 0)


@command.command("new")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
def new(file: Path) -> None:
    """Ask a few questions about a launcher, and write a first bridge to FILE.

    An existing file is never overwritten.

    \b
    wolfbane bridge new bridges/ledger.toml
    """
    from wolfbane.app.bridges import written

    if file.exists():
        raise InputError(Problem("the file already exists; it was not changed", str(file)))
    text = written(_ask())
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text, encoding="utf-8")
    except OSError as error:
        raise InputError(Problem(f"cannot write the file: {error}", str(file))) from None
    echo(f"\nWrote {file}.\n\nAdd this to wolfbane.toml:\n")
    echo(f'  [[suite]]\n  name = "{file.stem}"\n  kind = "bridge"\n  paths = ["..."]')
    echo(f'  bridge = "{file.as_posix()}"')
    echo('  # folder = "..."               the launcher\'s folder, if not this one\n')
    echo("Then check the bridge:\n")
    echo(f"  {shlex.join(['wolfbane', 'bridge', 'check', str(file)])}")


def _ask() -> Draft:
    """The questions, each after the previous answer."""
    from wolfbane.app.bridges import ENDINGS, FORMATS, LISTS, NAMES, PRINTED, WAYS, Draft

    answers: dict[str, Any] = {"files": click.prompt("Which files contain tests (globs)").split()}
    way = answers["way"] = _one_of("How are tests found?", WAYS)
    if way == "lines":
        answers["test_line"] = click.prompt(
            _capital(_LINE.format("test", "NAME")), value_proc=_has("NAME")
        )
        answers["group_line"] = _or_none(_LINE.format("group", "NAME"), _has("NAME"))
        message = "TAG (or KEY and VALUE)"
        answers["tag_line"] = _or_none(_LINE.format("tag", message), _has("TAG", "KEY"))
    elif way == "query":
        answers["grammar"] = click.prompt("The language (java, javascript, python, ...)")
    elif way == "listing":
        answers["list_command"] = click.prompt(
            "The command that lists tests (use {file} if it lists the tests of one file)",
            value_proc=_line,
        )
        answers["list_format"] = _one_of("What does this command print?", LISTS)
    echo(_COMMAND)
    command = answers["command"] = click.prompt("Command", value_proc=_line)
    answers["names"] = (
        "files" if way == "files" else _one_of("How does the launcher accept test names?", NAMES)
    )
    if answers["names"] == "each":
        answers["option"] = _or_none("the option before each test name")
    if answers["names"] != "files" and (way == "query" or answers.get("group_line")):
        answers["name"] = click.prompt(
            "How does the launcher write the name of a test (use {name}, {group} and {file})",
            default="{group:.}{name}",
        )
    answers["failed"] = click.prompt("The launcher's exit code if tests fail", default=1)
    answers["format"] = _one_of("Which report does the launcher write?", FORMATS)
    if "{report}" in command:
        answers["report"] = f"{{scratch}}/report{ENDINGS.get(answers['format'], '')}"
    elif answers["format"] not in PRINTED or "{scratch}" in command:
        answers["report"] = click.prompt(
            "Where is the report (a path or glob, relative to the suite's folder)"
        )
    return Draft(**answers)


def _one_of(question: str, answers: Mapping[str, str]) -> str:
    """One of these words, shown with their meanings; the first if the input is empty."""
    echo(question)
    for word, meaning in answers.items():
        echo(f"  {word:<8} {meaning}")
    choice = click.Choice(list(answers))
    answer: str = click.prompt(
        "Which", type=choice, default=next(iter(answers)), show_choices=False
    )
    return answer


def _or_none(question: str, check: Callable[[str], str] = str.strip) -> str:
    text = f"{_capital(question)} (leave empty if there is none)"
    answer: str = click.prompt(
        text, default="", show_default=False, value_proc=lambda text: text and check(text)
    )
    return answer


def _has(*keys: str) -> Callable[[str], str]:
    """Ask again until the answer contains one of the words."""

    def check(text: str) -> str:
        if not any(re.search(rf"\b{word}\b", text) for word in keys):
            raise click.BadParameter(f"the answer must contain {' or '.join(keys)}")
        return text.strip()

    return check


def _line(text: str) -> str:
    """Ask again if the quotes of a command line do not match."""
    try:
        shlex.split(text)
    except ValueError as error:
        raise click.BadParameter(str(error)) from None
    return text


def _capital(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}"
