"""Which engine serves which kind."""

from __future__ import annotations

from wolfbane.engines.cargo import CargoEngine
from wolfbane.engines.contract import Engine
from wolfbane.engines.doctest import DoctestEngine
from wolfbane.engines.node import NodeEngine
from wolfbane.engines.python import PythonEngine
from wolfbane.engines.scenario import ScenarioEngine
from wolfbane.engines.tap import TapEngine
from wolfbane.engines.workflow import WorkflowEngine

_ENGINES: dict[str, Engine] = {
    engine.kind: engine
    for engine in (
        PythonEngine(),
        DoctestEngine(),
        NodeEngine(),
        CargoEngine(),
        TapEngine(),
        ScenarioEngine(),
        WorkflowEngine(),
    )
}


def engine_for(kind: str) -> Engine:
    """The engine of a kind that the settings allow."""
    return _ENGINES[kind]
