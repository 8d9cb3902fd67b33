"""What tests there are: files of suites, their tests, their tags; cached by content."""

from wolfbane.inventory.scan import Inventory, open_inventory

__all__ = ["Inventory", "open_inventory"]
