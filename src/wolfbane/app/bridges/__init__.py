"""Learning and checking bridges: the one package above the kinds that knows one of them.

It runs sessions, which a kind cannot. The rest of the program gets from here what it needs of
bridges: their settings, drafts of their files, and command lines for shells.
"""

from wolfbane.kinds.bridge.draft import (
    ENDINGS,
    FORMATS,
    LISTS,
    NAMES,
    PRINTED,
    WAYS,
    Draft,
    written,
)
from wolfbane.kinds.bridge.learning.shells import (
    NeedsScript,
    build_before,
    needs_shell,
    split,
    through_shell,
)
from wolfbane.kinds.bridge.tables import BridgeSuite
from wolfbane.kinds.bridge.toml_text import toml_list

__all__ = [
    "ENDINGS",
    "FORMATS",
    "LISTS",
    "NAMES",
    "PRINTED",
    "WAYS",
    "BridgeSuite",
    "Draft",
    "NeedsScript",
    "build_before",
    "needs_shell",
    "split",
    "through_shell",
    "toml_list",
    "written",
]
