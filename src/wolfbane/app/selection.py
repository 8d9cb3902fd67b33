"""Turns a typed selection into a checked selection of tests."""

from __future__ import annotations

from pathlib import Path

import msgspec
from msgspec.structs import replace

from wolfbane.inventory import Inventory, open_inventory
from wolfbane.inventory.selection_request import SelectionRequest, read_choice
from wolfbane.results.newest import Newest
from wolfbane.selection import EVERYTHING, Choice, terms_of
from wolfbane.workspace.settings import Workspace


class Selected(msgspec.Struct, frozen=True):
    """The inventory of the workspace, the checked selection, and the recorded results.

    ``is_narrowed``: the user named what to select, even if that is all.
    """

    inventory: Inventory
    choice: Choice
    newest: Newest
    is_narrowed: bool = False


def select(workspace: Workspace, request: SelectionRequest, folder: Path) -> Selected:
    """Read and check a selection. Raises InputError or ExpressionError.

    Paths are relative to ``folder`` if it is in the workspace, and otherwise to the workspace's
    root. If the suites come from a revision, paths are relative to the same folder in the revision.
    """
    inventory = open_inventory(workspace)
    if workspace.source:
        paths = [_there(workspace, path) for path in request.paths]
        request, folder = replace(request, paths=paths), Path(_there(workspace, str(folder)))
    if folder != workspace.root and workspace.root not in folder.parents:
        folder = workspace.root
    choice = read_choice(request, inventory, folder)
    terms = [term for each in (choice.expression, *choice.drops) for term in terms_of(each)]
    if any(term.field == "status" for term in terms):
        from wolfbane.results.history.opening import newest_outcomes  # a database takes a while

        newest = newest_outcomes(workspace)
    else:
        newest = Newest(workspace.caches)
    narrowed = bool(request.paths or request.everything) or choice.expression != EVERYTHING
    return Selected(inventory=inventory, choice=choice, newest=newest, is_narrowed=narrowed)


def _there(workspace: Workspace, path: str) -> str:
    """An absolute path in the workspace as the same path in the copy of its revision."""
    home = str(workspace.home)
    if path != home and not path.startswith(f"{home}/"):
        return path
    return f"{workspace.root}{path.removeprefix(home)}"
