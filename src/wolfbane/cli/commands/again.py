"""``wolfbane again``."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wolfbane.cli.commands.run import command as run
from wolfbane.cli.options import completion_sources
from wolfbane.cli.options.arguments import (
    AT,
    ENV,
    EXPANDED,
    SET,
    SPREAD,
    WORKSPACE,
    Piece,
    PresetCommand,
    joined,
    pieces_of,
)
from wolfbane.cli.options.selection_options import SELECTION
from wolfbane.cli.options.workspace_option import workspace_at
from wolfbane.cli.streams import echo
from wolfbane.environments.mask import HIDDEN
from wolfbane.errors import InputError, NothingChosen, Problem

if TYPE_CHECKING:
    from wolfbane.events.run_events import RunStarted
    from wolfbane.model import Result
    from wolfbane.results.record import Record

_OWN = ("--failed", "--unfinished")
_REPORT = "--report"
_EVERYTHING = Piece("--everything", ("--everything",))
_EXAMPLES = """Repeat a recorded run with the same selection, environments, parameters and options.

RUN is 'last', 'previous', or the name of a run. Options that you add replace the recorded ones.
Secrets are not recorded; they are read again from their sources.

\b
wolfbane again                      the last run
wolfbane again --failed             failed tests only, where they failed
wolfbane again --unfinished         the tests that did not run, after Ctrl-C
wolfbane again previous --jobs 1
wolfbane again --failed --print-command
"""


def _again(run_name: str, failed: bool, unfinished: bool, **options: Any) -> None:
    ctx = click.get_current_context()
    typed = [
        piece
        for piece in pieces_of(ctx.command, ctx.meta[EXPANDED])
        if piece.option and piece.option not in _OWN
    ]
    record = _record(options["workspace"], run_name)
    if failed or unfinished:
        root = workspace_at(options["workspace"]).root
        recorded = _of_part(record, root, failed=failed, unfinished=unfinished)
    else:
        recorded = _of_run(record)
    ctx.exit(run.main(joined(_overridden(recorded, typed)), standalone_mode=False) or 0)


def _record(workspace: Path | None, name: str) -> Record:
    from wolfbane.results.record import read_record
    from wolfbane.results.runs import find_run

    opened = workspace_at(workspace)
    folder = find_run(opened.results, name)
    record = read_record(folder)
    if record.started is None:
        raise InputError(Problem(f"run {folder.name} was stopped before it started"))
    if record.load is not None:
        hint = f"repeat the load test with: {record.started.command}"
        raise InputError(
            Problem(
                f"run {folder.name} is a load test and cannot be repeated with 'again'", hint=hint
            )
        )
    return record


def _of_run(record: Record) -> list[Piece]:
    """The arguments of a recorded run, so that they mean the same tests as then."""
    started = record.started
    assert started is not None
    pieces = _moved(_pieces(started.arguments or started.pointed), started)
    addresses = started.chosen
    if not started.arguments:  # it was started by another program, or by 'watch'
        addresses = tuple(dict.fromkeys(result.address for result in record.results))
    if addresses:
        pieces = [*_not_choosing(pieces), _EVERYTHING, *_addresses(addresses)]
    return _pinned(pieces, started)


def _of_part(record: Record, root: Path, *, failed: bool, unfinished: bool) -> list[Piece]:
    """The arguments that run the failed tests of a run, each in the variant that failed, or those
    that did not run, or both.

    The reports of the run are not written: a part of its tests must not replace them.
    """
    from wolfbane.selection import Term

    started = record.started
    assert started is not None
    bad = [r for r in record.results if failed and r.outcome.is_failure]
    if unfinished:
        paths = _unfinished(record)
    else:
        paths = []
    if not (bad or paths):
        parts = ["failed"] * failed + ["was left to run"] * unfinished
        raise NothingChosen(f"nothing {' or '.join(parts)} in run {started.run}")
    bad, paths = _present(bad, paths, root)
    addresses = dict.fromkeys(word for result in bad for word in result.again or [result.address])
    ended = [r.address for r in record.results if r.path in paths and r not in bad]
    pieces = _not_choosing(_moved(_pieces(started.arguments or started.pointed), started))
    pieces = [piece for piece in pieces if piece.option != _REPORT]
    if any(result.target for result in bad) and not paths:  # addresses say in which environment
        pieces = [piece for piece in pieces if piece.option not in (ENV, SPREAD)]
        spread = {p.value for p in _pieces(started.arguments) if p.option == SPREAD}
        pieces = [p for p in pieces if p.option != SET or p.value.partition("=")[0] not in spread]
    terms = (str(Term("address", address, "quoted")) for address in ended)
    drops = [Piece("--drop", ("--drop", term)) for term in terms]
    return _pinned([*pieces, _EVERYTHING, *_addresses([*addresses, *paths]), *drops], started)


def _unfinished(record: Record) -> list[str]:
    """The files of a run with tests that have no result."""
    from wolfbane.model import variant

    started = record.started
    assert started is not None
    ended = Counter(variant(r.path, r.browser, r.target) for r in record.results)
    endings = [f" @{target.label}" for target in started.targets if target.label]
    endings += [f" @{browser}" for browser in started.browsers]
    left = [name for name, planned in started.files.items() if ended[name] < planned]
    for ending in endings:
        left = [name.removesuffix(ending) for name in left]
    return list(dict.fromkeys(left))


def _present(
    bad: Sequence[Result], paths: Sequence[str], root: Path
) -> tuple[list[Result], list[str]]:
    """Those whose file still exists. The others are named, since a file may have a new name."""
    every = (*(result.path for result in bad), *paths)
    gone = {p for p in every if "://" not in p and not (root / p).exists()}
    for path in sorted(gone):
        echo(f"warning: {path} does not exist any more: its tests are left out", err=True)
    present = [result for result in bad if result.path not in gone]
    left = [path for path in paths if path not in gone]
    if not (present or left):
        raise NothingChosen("none of these files exists any more")
    return present, left


def _pinned(pieces: list[Piece], started: RunStarted) -> list[Piece]:
    """With the values resolved in that run: the commit, the seed, the environment."""
    options = {piece.option for piece in pieces}
    if AT in options:
        pieces = [piece for piece in pieces if piece.option != AT]
        pieces.append(Piece(AT, (AT, started.suite_state.commit)))
    if started.seed is not None and "--seed" not in options:
        pieces.append(Piece("--seed", ("--seed", str(started.seed))))
    targets = started.targets
    if ENV not in options and len(targets) == 1 and targets[0].environment and not targets[0].label:
        pieces.append(Piece(ENV, (ENV, targets[0].environment)))
    return list(dict.fromkeys(pieces))


def _overridden(recorded: Sequence[Piece], typed: Sequence[Piece]) -> list[Piece]:
    """Recorded arguments without those that the typed arguments replace.

    Secrets must be typed again.
    """
    replaced = {_subject(piece) for piece in typed}
    if "--order" in replaced:
        replaced.add("--seed")  # that of the order which is replaced
    kept = [piece for piece in recorded if _subject(piece) not in replaced]
    for piece in kept:
        if HIDDEN in piece.value:
            name = piece.value.partition("=")[0]
            message = f"the value of {piece.option} {name} is secret and was not recorded"
            raise InputError(Problem(message, hint=f"pass it again: {piece.option} {name}=..."))
    return [*kept, *typed]


def _subject(piece: Piece) -> str:
    """The subject that an argument sets.

    Each parameter is a separate subject; paths are never replaced.
    """
    if piece.option == SET:
        return f"{SET} {piece.value.partition('=')[0]}"
    return piece.option or piece.tokens[0]


def _moved(pieces: Sequence[Piece], started: RunStarted) -> list[Piece]:
    """Paths relative to the current folder, because the run may have started in another folder."""
    ctx = click.get_current_context()

    given = ctx.params["workspace"]
    home = workspace_at(given).root
    here, there = Path.cwd().resolve(), home / started.folder
    if here == there or (started.folder == "." and not here.is_relative_to(home)):
        return list(pieces)

    def moved(path: str) -> str:
        whole = os.path.normpath(there / path)
        if here.is_relative_to(home):
            return os.path.relpath(whole, here)
        return whole

    changes = []
    for piece in pieces:
        name, mark, path = piece.value.partition("=" if piece.option == "--report" else "=@")
        if not piece.option:
            changes.append(Piece("", (moved(piece.tokens[0]),)))
        elif piece.option == WORKSPACE:
            changes.append(Piece(WORKSPACE, (WORKSPACE, moved(piece.value))))
        elif piece.option in ("--report", SET) and mark:
            changes.append(Piece(piece.option, (piece.option, f"{name}{mark}{moved(path)}")))
        else:
            changes.append(piece)
    return changes


def _pieces(arguments: Sequence[str]) -> list[Piece]:
    return list(pieces_of(run, arguments))


def _not_choosing(pieces: Sequence[Piece]) -> list[Piece]:
    """The options that do not select tests, without the share, which selects some tests."""
    choosing = {*SELECTION, "--share"}
    return [piece for piece in pieces if piece.option and piece.option not in choosing]


def _addresses(addresses: Iterable[str]) -> list[Piece]:
    return [Piece("", (address,)) for address in addresses]


command = PresetCommand(
    "again",
    callback=_again,
    help=_EXAMPLES,
    params=[
        click.Argument(
            ["run_name"], default="last", metavar="[RUN]", shell_complete=completion_sources.runs
        ),
        click.Option(
            ["--failed"], is_flag=True, help="Run only the tests that failed in that run."
        ),
        click.Option(
            ["--unfinished"],
            is_flag=True,
            help="Run only the tests that did not run, because that run was stopped.",
        ),
        *(param for param in run.params if isinstance(param, click.Option)),
    ],
)

command.examples = {
    "Select tests": "--failed --drop tag:slow",
    "Browsers": "--failed --evidence all",
}
