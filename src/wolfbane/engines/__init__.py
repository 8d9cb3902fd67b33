"""One engine for each kind of suite; ``engine_for`` is the way in."""

from wolfbane.engines.contract import Engine, WorkerCommand
from wolfbane.engines.registry import engine_for

__all__ = ["Engine", "WorkerCommand", "engine_for"]
