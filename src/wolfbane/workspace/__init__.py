"""The workspace: its settings file, or what is detected without one."""

from wolfbane.workspace.find import open_workspace
from wolfbane.workspace.settings import Settings, Suite, Workspace

__all__ = ["Settings", "Suite", "Workspace", "open_workspace"]
