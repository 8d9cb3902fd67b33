"""``wolfbane compose``."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wolfbane.cli.commands import Command
from wolfbane.cli.disk_words import on_disk
from wolfbane.cli.quoting import quoted
from wolfbane.cli.selection_options import workspace_option
from wolfbane.cli.values import ExistingFile
from wolfbane.errors import InputError, Problem, did_you_mean

if TYPE_CHECKING:
    from wolfbane.inventory.composing import Composition
    from wolfbane.workspace.settings import Workspace

_STEPS = {
    "suites": "Suites",
    "tags": "Tags",
    "browsers": "Browsers",
    "env": "Environments",
    "retries": "Retries",
    "reports": "Reports, such as xunit=out.xml",
}
_OPTIONAL = ("retries", "reports")
_THEN = "run, save NAME, or show"


@click.command("compose", cls=Command)
@click.option(
    "--answers", type=ExistingFile(), metavar="FILE", shell_complete=on_disk(".toml"),
    help="Take the answers from a TOML file: suites, tags, browsers, env, retries, reports, then.",
)  # fmt: skip
@workspace_option
@click.pass_context
def command(ctx: click.Context, answers: Path | None, workspace: Path | None) -> None:
    """Put a run together step by step, see the command, then run it or save it.

    Each step shows what there is, and how many tests are left after the answer. Words or their
    numbers are answers, several with commas between; nothing means all.

    \b
    wolfbane compose
    wolfbane compose --answers smoke.toml
    """
    from wolfbane.inventory import open_inventory
    from wolfbane.inventory.composing import Composition
    from wolfbane.workspace.find import open_workspace

    found = open_workspace(workspace or Path.cwd(), given=workspace is not None)
    composition = Composition(open_inventory(found))
    given = _read(answers) if answers else None
    for step, title in _STEPS.items():
        if given is None:
            _ask(composition, step, title)
        else:
            value = given.get(step, [])
            composition.answer(step, value if isinstance(value, list) else [str(value)])
    arguments = composition.arguments()
    if workspace is not None:
        arguments += ["--workspace", str(workspace)]
    click.echo(f"\n{_left(composition)}\n  {quoted(['wolfbane', 'run', *arguments], 'posix')}")
    then = str(given.get("then", "show")) if given is not None else _prompt(f"\nNow? {_THEN}")
    ctx.exit(_then(found, then.split() or ["show"], arguments))


def _then(workspace: Workspace, words: list[str], arguments: list[str]) -> int:
    from wolfbane.cli.preset import save
    from wolfbane.cli.run import command as run

    if words == ["show"]:
        return 0
    if words == ["run"]:
        code = run.main(arguments, prog_name="wolfbane run", standalone_mode=False)
        return int(code or 0)
    if words[0] == "save" and len(words) == 2:
        place = ["--workspace", str(workspace.file or workspace.root)]
        save.main([*place, words[1], "--", *arguments], standalone_mode=False)
        return 0
    raise InputError(Problem(f"'{' '.join(words)}' is none of {_THEN}"))


def _ask(composition: Composition, step: str, title: str) -> None:
    offers = composition.offers(step)
    if step != "reports" and not offers:
        return
    click.echo(f"\n{title}")
    wide = max(map(len, offers), default=0)
    for number, (word, about) in enumerate(offers.items(), 1):
        click.echo(f"{number:4}  {word.ljust(wide)}  {about}".rstrip())
    while True:
        text = _prompt("  which (nothing: " + ("none)" if step in _OPTIONAL else "all)"))
        try:
            composition.answer(step, [word for word in re.split(r"[\s,]+", text) if word])
            break
        except InputError as error:
            click.echo(f"  {error}")
    click.echo(f"  {_left(composition)}")


def _prompt(text: str) -> str:
    answer: str = click.prompt(text, default="", show_default=False)
    return answer.strip()


def _left(composition: Composition) -> str:
    tests = composition.chosen()
    runs = max(1, len(composition.answers.get("env", [])))
    suites = len({test.suite for test in tests})
    times = f", each in {runs} environments" if runs > 1 else ""
    words = f"{len(tests):,} {'test' if len(tests) == 1 else 'tests'}"
    return f"{words} of {suites} {'suite' if suites == 1 else 'suites'}{times}"


def _read(path: Path) -> Mapping[str, Any]:
    import tomllib

    try:
        answers = tomllib.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError) as error:
        raise InputError(Problem(f"cannot be read: {error}", str(path))) from None
    known = [*_STEPS, "then"]
    problems = []
    for key, value in answers.items():
        listed = isinstance(value, list) and all(isinstance(item, str) for item in value)
        if key not in known:
            problems.append(Problem(f"unknown key '{key}'", str(path), 0, did_you_mean(key, known)))
        elif key == "retries" and type(value) is int:
            continue
        elif not (isinstance(value, str) or (listed and key != "then")):
            problems.append(Problem(f"'{key}' is no text or list of texts", str(path)))
    if problems:
        raise InputError(*problems)
    return answers
