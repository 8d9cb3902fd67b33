"""The registry of engines. An engine is imported when a browser of it is used for the first time.

Importing this module imports no engine.
"""

from __future__ import annotations

import importlib
from functools import cache
from typing import TYPE_CHECKING

from wolfbane.workspace.vocabulary import ENGINES

if TYPE_CHECKING:
    from wolfbane.browsers.engines.contract import BrowserEngine


@cache
def find_engine(name: str) -> BrowserEngine:
    """The engine with this name, which is one of ``EngineName``."""
    engine: BrowserEngine = importlib.import_module(f"wolfbane.browsers.engines.{name}").ENGINE
    return engine


@cache
def vendor_keys() -> frozenset[str]:
    """The capabilities with options of one engine."""
    return frozenset(find_engine(name).vendor for name in ENGINES)
