"""What a run is pointed at: parameters, environments, and their secrets."""

from wolfbane.environments.environment import Environment, ServicePlan, Value
from wolfbane.environments.mask import Mask
from wolfbane.environments.resolution import by_dotted_name
from wolfbane.environments.resolve import resolve, resolve_each

__all__ = [
    "Environment", "Mask", "ServicePlan", "Value", "by_dotted_name", "resolve", "resolve_each"
]  # fmt: skip
