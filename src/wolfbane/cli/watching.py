"""The loop of ``wolfbane watch``. It handles saved files and pressed keys, and prints results."""

from __future__ import annotations

import sys

import click

from wolfbane.app.saved_files import SavedFiles
from wolfbane.app.watch import FAILED, WatchedSelection
from wolfbane.cli.keys import KeyReader
from wolfbane.cli.running import run_and_print
from wolfbane.cli.streams import echo
from wolfbane.errors import InputError, NothingChosen, Problem, WolfbaneError
from wolfbane.reports.text import many
from wolfbane.selection import Expression

KEYS = "keys: a = all, f = failed, s = new selection, q = quit"


class WatchLoop:
    """Runs the tests of a watched selection until the user quits."""

    def __init__(self, watched: WatchedSelection) -> None:
        self._watched = watched
        self._warned: set[str] = set()
        self._shown = (0, "")

    def keep_on(self) -> None:
        """Continue until the user presses q, or interrupts while no tests run."""
        files = SavedFiles(self._watched.workspace)
        files.start()
        if files.trouble:
            raise InputError(Problem(f"cannot watch files: {files.trouble}"))
        try:
            self._print_watched()
            with KeyReader() as keys:
                while (key := keys.pressed()) != "q":
                    self._act(key, keys)
                    if changed := files.changed():
                        self._saved(changed)
        except KeyboardInterrupt:
            echo()
        finally:
            files.stop()

    def _act(self, key: str, keys: KeyReader) -> None:
        if key == "a":
            self._run()
        elif key == "f":
            self._run(FAILED)
        elif key == "s":
            with keys.lines():
                text = click.prompt("only", default="", show_default=False, prompt_suffix=": ")
            try:
                self._watched.narrow(text)
            except WolfbaneError as error:
                echo(f"wolfbane: {error}", err=True)
                return
            self._print_watched()

    def _saved(self, changed: set[str]) -> None:
        """Run the tests that saved files affect."""
        try:
            saved = self._watched.saved(changed)
        except WolfbaneError as error:
            echo(f"wolfbane: {error}", err=True)
            return
        if saved.settings:
            echo(f"\nsettings reloaded: {', '.join(saved.settings)}")
        if saved.affected:
            self._run(saved.affected)
        elif saved.settings or self._count() != self._shown:  # a file may be gone
            self._print_watched()

    def _run(self, only: Expression | None = None) -> None:
        """Run the selected tests, or those that match an expression; print errors and continue."""
        if sys.stdout.isatty():
            click.clear()
        try:
            run_and_print(self._watched.ready(only), self._warned)
        except NothingChosen as error:
            echo(str(error).partition("\n")[0])
        except WolfbaneError as error:
            echo(f"wolfbane: {error}", err=True)
        self._print_watched()

    def _count(self) -> tuple[int, str] | None:
        """The number of watched tests, and the selection; None, after the error, if it is wrong."""
        try:
            return self._watched.chosen()
        except WolfbaneError as error:
            echo(f"wolfbane: {error}", err=True)
            return None

    def _print_watched(self) -> None:
        if (files := self._count()) is None:
            return
        self._shown = count, chosen = files
        which = ""
        if chosen != "everything":
            which = f" ({chosen})"
        echo(f"\nwatching {many(count, 'test')}{which}   {KEYS}")
