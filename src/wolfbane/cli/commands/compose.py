"""``wolfbane compose``."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.options.base_command import Command
from wolfbane.cli.options.path_completion import on_disk
from wolfbane.cli.options.quoting import quoted
from wolfbane.cli.options.values import ExistingFile
from wolfbane.cli.options.workspace_option import workspace_at, workspace_option
from wolfbane.cli.streams import echo
from wolfbane.errors import InputError, Problem
from wolfbane.reports.text import many

if TYPE_CHECKING:
    from wolfbane.app.composition import Composition
    from wolfbane.workspace.settings import Workspace

_TITLES = {
    "suites": "Suites",
    "tags": "Tags",
    "browsers": "Browsers",
    "env": "Environments",
    "retries": "Retries",
    "reports": "Reports, for example xunit=out.xml",
}
_OPTIONAL = ("retries", "reports")
_THEN = "run, save NAME, or show"


@click.command("compose", cls=Command)
@click.option(
    "--answers",
    type=ExistingFile(),
    metavar="FILE",
    shell_complete=on_disk(".toml"),
    help="Read the answers from a TOML file. Keys: suites, "
    "tags, browsers, env, retries, reports, then.",
)
@workspace_option
@click.pass_context
def command(ctx: click.Context, answers: Path | None, workspace: Path | None) -> None:
    """Build the command for a run step by step, then run it or save it.

    Each step lists the possible answers, and then shows how many tests remain. Answer with words or
    their numbers, separated by commas. An empty answer means all.

    \b
    wolfbane compose
    wolfbane compose --answers smoke.toml
    """
    from wolfbane.app.composition import Composition, read_answers
    from wolfbane.inventory import open_inventory

    opened = workspace_at(workspace)
    composition = Composition(open_inventory(opened))
    given = None
    if answers:
        given = read_answers(answers)
    for step, title in _TITLES.items():
        if given is None:
            _ask(composition, step, title)
        else:
            value = given.get(step, [])
            composition.answer(step, value if isinstance(value, list) else [str(value)])
    arguments = composition.arguments()
    if workspace is not None:
        arguments += ["--workspace", str(workspace)]
    echo(f"\n{_left(composition)}\n  {quoted(['wolfbane', 'run', *arguments], 'posix')}")
    if given is not None:
        then = str(given.get("then", "show"))
    else:
        then = _prompt(f"\nWhat next? {_THEN}")
    ctx.exit(_then(opened, then.split() or ["show"], arguments))


def _then(workspace: Workspace, extra: list[str], arguments: list[str]) -> int:
    from wolfbane.cli.commands.preset import save
    from wolfbane.cli.commands.run import command as run

    if extra == ["show"]:
        return 0
    if extra == ["run"]:
        code = run.main(arguments, prog_name="wolfbane run", standalone_mode=False)
        return int(code or 0)
    if extra[0] == "save" and len(extra) == 2:
        options = ["--workspace", str(workspace.file or workspace.root)]
        save.main([*options, extra[1], "--", *arguments], standalone_mode=False)
        return 0
    raise InputError(Problem(f"'{' '.join(extra)}' is not a valid answer; use {_THEN}"))


def _ask(composition: Composition, step: str, title: str) -> None:
    offers = composition.offers(step)
    if step != "reports" and not offers:
        return
    echo(f"\n{title}")
    wide = max(map(len, offers), default=0)
    for number, (word, about) in enumerate(offers.items(), 1):
        echo(f"{number:4}  {word.ljust(wide)}  {about}".rstrip())
    while True:
        text = _prompt("  which (empty: " + ("none)" if step in _OPTIONAL else "all)"))
        try:
            composition.answer(step, [word for word in re.split(r"[\s,]+", text) if word])
            break
        except InputError as error:
            echo(f"  {error}")
    echo(f"  {_left(composition)}")


def _prompt(text: str) -> str:
    answer: str = click.prompt(text, default="", show_default=False)
    return answer.strip()


def _left(composition: Composition) -> str:
    tests = composition.chosen()
    runs = max(1, len(composition.answers.get("env", [])))
    suites = len({test.suite for test in tests})
    times = ""
    if runs > 1:
        times = f", each in {runs} environments"
    return f"{many(len(tests), 'test')} of {many(suites, 'suite')}{times}"
