"""Which engine serves which kind. An engine is imported when its kind is first asked for."""

from __future__ import annotations

import importlib
from functools import cache

from wolfbane.engines.contract import Engine


@cache
def engine_for(kind: str) -> Engine:
    """The engine of a kind that the settings allow."""
    module = importlib.import_module(f"wolfbane.engines.{kind}")
    engine: Engine = getattr(module, f"{kind.capitalize()}Engine")()
    return engine
