"""The loop of ``wolfbane watch``: what was saved, what was pressed, what runs."""

from __future__ import annotations

import hashlib
import queue
import sys
import threading
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wolfbane.cli.before_run import Asked, make_ready
from wolfbane.cli.keys import Keys
from wolfbane.cli.running import carry_out
from wolfbane.cli.selecting import Selected
from wolfbane.errors import InputError, NothingChosen, Problem, WolfbaneError
from wolfbane.inventory.affected import affected
from wolfbane.inventory.resolving import resolved
from wolfbane.model import Outcome
from wolfbane.reports.text import many
from wolfbane.selection import Expression, Term, all_of, any_of, choose, parse

if TYPE_CHECKING:
    from wolfbane.cli.pointing import Point
    from wolfbane.workspace.settings import Workspace

KEYS = "a all, f failed, s another selection, q quit"
_NEVER = frozenset({"node_modules", "__pycache__", "target"})
_FAILED = any_of(Term("status", str(outcome)) for outcome in Outcome if outcome.is_bad)


class Watch:
    """Watches a workspace and runs what is chosen in it, or a part of that."""

    def __init__(
        self, opened: Callable[[], Workspace], select: Callable[[], Selected], point: Point,
        asked: Asked,
    ) -> None:  # fmt: skip
        self._opened, self._select, self._point, self._asked = opened, select, point, asked
        self._workspace = opened()
        self._narrower: Expression | None = None
        self._looking, self._trouble = threading.Event(), ""
        self._seen: dict[str, str] = {}
        self._saved: queue.SimpleQueue[set[str]] = queue.SimpleQueue()

    def keep_on(self) -> None:
        """Go on until somebody presses q, or interrupts while nothing runs."""
        stop = threading.Event()
        thread = threading.Thread(target=self._look, args=(stop,), daemon=True)
        thread.start()
        self._looking.wait()
        if self._trouble:
            raise InputError(Problem(f"files cannot be watched: {self._trouble}"))
        try:
            self._say_what_is_watched()
            with Keys() as keys:
                while (key := keys.pressed()) != "q":
                    self._act(key, keys)
                    if saved := self._news():
                        self._run_affected(saved)
        except KeyboardInterrupt:
            click.echo()
        finally:
            stop.set()
            thread.join(timeout=2)

    def _look(self, stop: threading.Event) -> None:
        from watchfiles import watch

        root = self._workspace.root
        try:
            for changes in watch(
                root, stop_event=stop, watch_filter=lambda _, path: self._matters(Path(path)),
                debounce=400, rust_timeout=200, yield_on_timeout=True, raise_interrupt=False,
            ):  # fmt: skip
                self._looking.set()
                self._saved.put({Path(path).relative_to(root).as_posix() for _, path in changes})
        except (OSError, RuntimeError) as error:
            self._trouble = str(error)
            self._looking.set()

    def _matters(self, path: Path) -> bool:
        if self._workspace.results in path.parents:
            return False
        inside = path.relative_to(self._workspace.root).parts
        return not any(part.startswith(".") or part in _NEVER for part in inside)

    def _news(self) -> set[str]:
        """The paths that were saved with another content than when last looked at."""
        saved: set[str] = set()
        while not self._saved.empty():
            saved |= self._saved.get()
        return {path for path in saved if self._differs(path)}

    def _differs(self, path: str) -> bool:
        try:
            mark = hashlib.blake2b((self._workspace.root / path).read_bytes()).hexdigest()
        except OSError:
            mark = ""
        known, self._seen[path] = self._seen.get(path), mark
        return known != mark

    def _act(self, key: str, keys: Keys) -> None:
        if key == "a":
            self._run()
        elif key == "f":
            self._run(_FAILED)
        elif key == "s":
            with keys.lines():
                text = click.prompt("only", default="", show_default=False, prompt_suffix=": ")
            self._narrow(text)

    def _run_affected(self, saved: set[str]) -> None:
        try:
            selected = self._select()
            reached = affected(self._workspace, selected.inventory.files, saved)
        except WolfbaneError as error:
            click.echo(f"wolfbane: {error}", err=True)
            return
        if reached:
            named = ", ".join(sorted(saved)[:3]) + (", ..." if len(saved) > 3 else "")
            self._run(Term("changed", named, "quoted", among=reached))

    def _run(self, only: Expression | None = None) -> None:
        """Run what is chosen, or what of it an expression matches; say what is wrong and go on."""
        if sys.stdout.isatty():
            click.clear()
        try:
            self._workspace = self._opened()
            ready = make_ready(self._opened, lambda: self._narrowed(only), self._point, self._asked)
            carry_out(ready, self._asked)
        except NothingChosen as error:
            click.echo(str(error).partition("\n")[0])
        except WolfbaneError as error:
            click.echo(f"wolfbane: {error}", err=True)
        self._say_what_is_watched()

    def _narrowed(self, only: Expression | None = None) -> Selected:
        selected = self._select()
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
