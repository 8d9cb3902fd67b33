"""The inventory of tests: suites, files, tests and tags, cached by content."""

from wolfbane.inventory.scan import Inventory, open_inventory

__all__ = ["Inventory", "open_inventory"]
