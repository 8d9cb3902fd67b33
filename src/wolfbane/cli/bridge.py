"""``wolfbane bridge``."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wolfbane.cli.selecting import workspace_option
from wolfbane.errors import InputError, Problem, did_you_mean

if TYPE_CHECKING:
    from wolfbane.workspace.bridge_draft import Draft

_LINE = "a line with a {} in it, with {} in the place of what changes"
_COMMAND = """\
How is it started? One command line, with these where they belong:
  {names}   which tests to run      {file}    the file they are in, or {files}
  {report}  where to put a report   {browser} and {param.NAME}, if it takes any"""


@click.group("bridge")
def command() -> None:
    """Connect suites that have a launcher of their own."""


@command.command("check")
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@workspace_option
@click.pass_context
def check(ctx: click.Context, file: Path, workspace: Path | None) -> None:
    """Use the bridge in FILE on a suite that names it, and say line by line what holds.

    Runs all of the suite's tests, one alone, some, and one that fails. Exits 1 where something
    does not hold.

    \b
    wolfbane bridge check bridges/ledger.toml
    """
    from wolfbane.environments import resolve_each
    from wolfbane.execution.bridge_check import check_bridge
    from wolfbane.execution.checkup import State
    from wolfbane.reports.checkup import print_findings
    from wolfbane.reports.style import make_console
    from wolfbane.workspace.find import open_workspace

    found = open_workspace(workspace or Path.cwd(), given=workspace is not None)
    suites = [
        suite for suite in found.suites
        if suite.bridge and (found.root / suite.bridge).resolve() == file.resolve()
    ]  # fmt: skip
    if not suites:
        named = [suite.bridge for suite in found.suites if suite.bridge]
        hint = did_you_mean(str(file), named) or "name it as a suite's 'bridge' in wolfbane.toml"
        raise InputError(Problem(f"no suite names the bridge {file}", hint=hint))
    environments = resolve_each(found, "", (), (), labelled=False)
    findings = [each for suite in suites for each in check_bridge(found, suite, environments)]
    print_findings(make_console(), found, findings)
    ctx.exit(1 if any(finding.state is State.WRONG for finding in findings) else 0)


@command.command("new")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
def new(file: Path) -> None:
    """Ask a few questions about a launcher, and write a bridge to begin with to FILE.

    A file that is there is never overwritten.

    \b
    wolfbane bridge new bridges/ledger.toml
    """
    from wolfbane.workspace.bridge_draft import written

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
    click.echo(f'  bridge = "{file.as_posix()}"\n\nand see what holds of it:\n')
    click.echo(f"  {shlex.join(['wolfbane', 'bridge', 'check', str(file)])}")


def _ask() -> Draft:
    """The questions, each after what was answered before."""
    from wolfbane.workspace.bridge_draft import FORMATS, NAMES, WAYS, Draft

    told: dict[str, Any] = {"about": click.prompt("What do you call the launcher")}
    told["files"] = click.prompt("Which files hold tests (globs)").split()
    way = told["way"] = _one_of(
        "How are tests found: by patterns for lines, by a query over the syntax, by a command"
        " that lists them, or is a file a test", WAYS, "lines",
    )  # fmt: skip
    if way == "lines":
        told["test_line"] = click.prompt(_capital(_LINE.format("test", "NAME")))
        told["group_line"] = _or_none(_LINE.format("group", "NAME"))
        told["tag_line"] = _or_none(_LINE.format("tag", "TAG (or KEY and VALUE)"))
    elif way == "query":
        told["grammar"] = click.prompt("The language (java, javascript, python, ...)")
    elif way == "listing":
        told["list_command"] = click.prompt("The command that lists tests")
        told["list_format"] = _one_of("What it prints", ("names", "json", "tap"), "names")
    click.echo(_COMMAND)
    told["command"] = click.prompt("Command")
    told["names"] = "files" if way == "files" else _one_of(
        "How does it take names: one option for each, all joined, as one pattern, in a list file",
        NAMES, "each",
    )  # fmt: skip
    if told["names"] == "each":
        told["option"] = _or_none("the option before each name")
    if told["names"] != "files":
        grouped = way == "query" or bool(told.get("group_line"))
        told["name"] = click.prompt(
            "What does it call a test, by {name}, {group} and {file}",
            default="{group}.{name}" if grouped else "{name}",
        )
    told["failed"] = click.prompt("Its exit code when tests failed", default=1)
    told["format"] = _one_of("What its report is", FORMATS, "xunit")
    told["report"] = _or_none("where the report is, such as {scratch}/report.xml")
    return Draft(**told)


def _one_of(question: str, words: Sequence[str], default: str) -> str:
    answer: str = click.prompt(question, type=click.Choice(words), default=default)
    return answer


def _or_none(question: str) -> str:
    text = f"{_capital(question)} (nothing: there is none)"
    answer: str = click.prompt(text, default="", show_default=False)
    return answer.strip()


def _capital(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}"
