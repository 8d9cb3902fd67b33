"""Wolfbane runs every suite of a team through one selection layer.

From Python, a run is a loop over its events::

    from wolfbane import TestFinished, open_workspace

    workspace = open_workspace("harbour")
    for event in workspace.run(pick="tag:smoke"):
        if isinstance(event, TestFinished) and event.result.outcome.is_bad:
            print(event.result.address)

This module is also imported by workers in the suites' own interpreters, so it imports nothing until
a name is asked for.
"""

from __future__ import annotations

__version__ = "0.1.0"

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any

    from wolfbane.app.embedding import OpenWorkspace, open_workspace
    from wolfbane.errors import InputError, NothingChosen, Problem, WolfbaneError
    from wolfbane.events.run_events import (
        Event,
        RunFinished,
        RunStarted,
        TestFinished,
        TestRepeated,
        TestRetried,
        TestStarted,
    )
    from wolfbane.model import Outcome, Result, Test
    from wolfbane.setup.run_request import RunRequest

_HOMES = {
    "OpenWorkspace": "app.embedding",
    "open_workspace": "app.embedding",
    "InputError": "errors",
    "NothingChosen": "errors",
    "Problem": "errors",
    "WolfbaneError": "errors",
    "Event": "events.run_events",
    "RunFinished": "events.run_events",
    "RunStarted": "events.run_events",
    "TestFinished": "events.run_events",
    "TestRepeated": "events.run_events",
    "TestRetried": "events.run_events",
    "TestStarted": "events.run_events",
    "RunRequest": "setup.run_request",
    "Outcome": "model",
    "Result": "model",
    "Test": "model",
}
__all__ = [
    "Event",
    "InputError",
    "NothingChosen",
    "OpenWorkspace",
    "Outcome",
    "Problem",
    "Result",
    "RunFinished",
    "RunRequest",
    "RunStarted",
    "Test",
    "TestFinished",
    "TestRepeated",
    "TestRetried",
    "TestStarted",
    "WolfbaneError",
    "__version__",
    "open_workspace",
]


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'wolfbane' has no attribute '{name}'")
    import importlib

    return getattr(importlib.import_module(f"wolfbane.{_HOMES[name]}"), name)
