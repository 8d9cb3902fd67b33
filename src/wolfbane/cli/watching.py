"""The loop of ``wolfbane watch``: what was saved, what was pressed, what runs."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec.structs import replace

from wolfbane.app.ready import make_ready
from wolfbane.app.selection import Selected
from wolfbane.cli.keys import KeyReader
from wolfbane.cli.running import run_and_print
from wolfbane.cli.saved_files import SavedFiles
from wolfbane.errors import InputError, NothingChosen, Problem, WolfbaneError
from wolfbane.execution.run_request import RunRequest
from wolfbane.inventory.affected import affected
from wolfbane.inventory.resolving import resolved
from wolfbane.model import Outcome
from wolfbane.reports.text import many
from wolfbane.results.quarantine import NAME as QUARANTINE_NAME
from wolfbane.selection import Expression, Term, all_of, choose, parse
from wolfbane.workspace.vocabulary import SETTINGS_NAME

if TYPE_CHECKING:
    from wolfbane.cli.target_options import Point
    from wolfbane.workspace.settings import Workspace

KEYS = "a all, f failed, s another selection, q quit"
_SETTINGS = frozenset({SETTINGS_NAME, QUARANTINE_NAME})
# One term: a warning for each outcome that no test has would say nothing.
_FAILED = Term("status", "|".join(str(o) for o in Outcome if o.is_bad), "regex")


class Watch:
    """Watches a workspace and runs what is chosen in it, or a part of that."""

    def __init__(
        self, opened: Callable[[], Workspace], select: Callable[..., Selected], point: Point,
        request: RunRequest,
    ) -> None:  # fmt: skip
        self._opened, self._select, self._point, self._request = opened, select, point, request
        self._warned: set[str] = set()
        self._workspace = opened()
        self._narrower: Expression | None = None

    def keep_on(self) -> None:
        """Go on until somebody presses q, or interrupts while nothing runs."""
        saved = SavedFiles(self._workspace)
        saved.start()
        if saved.trouble:
            raise InputError(Problem(f"files cannot be watched: {saved.trouble}"))
        try:
            self._say_what_is_watched()
            with KeyReader() as keys:
                while (key := keys.pressed()) != "q":
                    self._act(key, keys)
                    if changed := saved.changed():
                        self._take_in(changed)
        except KeyboardInterrupt:
            click.echo()
        finally:
            saved.stop()

    def _act(self, key: str, keys: KeyReader) -> None:
        if key == "a":
            self._run()
        elif key == "f":
            self._run(_FAILED)
        elif key == "s":
            with keys.lines():
                text = click.prompt("only", default="", show_default=False, prompt_suffix=": ")
            self._narrow(text)

    def _take_in(self, changed: set[str]) -> None:
        """Run the tests that changed files affect; settings that changed are read first."""
        settings = [path for path in sorted(changed) if Path(path).name in _SETTINGS]
        try:
            self._workspace = self._opened()
            selected = self._select(self._workspace)
            reached = affected(self._workspace, selected.inventory.files, changed)
        except WolfbaneError as error:
            click.echo(f"wolfbane: {error}", err=True)
            return
        if settings:
            click.echo(f"\nread again: {', '.join(settings)}")
        if reached:
            named = ", ".join(sorted(changed)[:3]) + (", ..." if len(changed) > 3 else "")
            self._run(Term("changed", named, "quoted", among=reached))
        elif settings:
            self._say_what_is_watched()

    def _run(self, only: Expression | None = None) -> None:
        """Run what is chosen, or what of it an expression matches; say what is wrong and go on."""
        if sys.stdout.isatty():
            click.clear()
        try:
            self._workspace = self._opened()
            environments = self._point(self._workspace)
            ready = make_ready(
                self._workspace, environments, lambda: self._narrowed(only), self._request
            )
            run_and_print(ready, self._warned)
        except NothingChosen as error:
            click.echo(str(error).partition("\n")[0])
        except WolfbaneError as error:
            click.echo(f"wolfbane: {error}", err=True)
        self._say_what_is_watched()

    def _narrowed(self, only: Expression | None = None) -> Selected:
        selected = self._select(self._workspace)
        parts = [resolved(self._narrower, selected.inventory)] if self._narrower else []
        parts += [only] if only is not None else []
        expression = all_of([selected.choice.expression, *parts])
        return replace(selected, choice=replace(selected.choice, expression=expression))

    def _say_what_is_watched(self) -> None:
        try:
            selected = self._narrowed()
        except WolfbaneError as error:
            click.echo(f"wolfbane: {error}", err=True)
            return
        tests = choose(
            selected.choice, selected.inventory.tests, selected.newest.overall().status
        ).chosen
        chosen = str(selected.choice)
        which = "" if chosen == "everything" else f" ({chosen})"
        click.echo(f"\nwatching {many(len(tests), 'test')}{which}   {KEYS}")

    def _narrow(self, text: str) -> None:
        try:
            self._narrower = parse(text) if text.strip() else None
        except WolfbaneError as error:
            click.echo(f"wolfbane: {error}", err=True)
            return
        self._say_what_is_watched()
