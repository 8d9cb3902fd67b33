"""What a run is pointed at: parameters, environments, and their secrets."""

from wolfbane.environments.mask import Mask
from wolfbane.environments.resolve import Environment, Value, by_dotted_name, resolve

__all__ = ["Environment", "Mask", "Value", "by_dotted_name", "resolve"]
