"""From a selection as it was typed to a checked choice of tests."""

from __future__ import annotations

from pathlib import Path

import msgspec

from wolfbane.inventory import Inventory, open_inventory
from wolfbane.inventory.selection_request import SelectionRequest, read_choice
from wolfbane.results.newest import Newest
from wolfbane.selection import Choice
from wolfbane.workspace.settings import Workspace


class Selected(msgspec.Struct, frozen=True):
    """The workspace's inventory, the checked choice, and what is on record."""

    inventory: Inventory
    choice: Choice
    newest: Newest


def select(workspace: Workspace, request: SelectionRequest, folder: Path) -> Selected:
    """Read and check a selection. Raises InputError or ExpressionError.

    Paths are from ``folder`` where that is in the workspace, else from the workspace's root.
    """
    inventory = open_inventory(workspace)
    if folder != workspace.root and workspace.root not in folder.parents:
        folder = workspace.root
    return Selected(inventory, read_choice(request, inventory, folder), Newest(workspace.results))
