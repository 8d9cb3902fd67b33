"""Environments of a run: their parameters and secrets."""

from wolfbane.environments.environment import Environment, ParameterValue, ServicePlan, mask_of
from wolfbane.environments.mask import Mask
from wolfbane.environments.resolution import by_dotted_name
from wolfbane.environments.resolve import resolve, resolve_each

__all__ = [
    "Environment",
    "Mask",
    "ParameterValue",
    "ServicePlan",
    "by_dotted_name",
    "mask_of",
    "resolve",
    "resolve_each",
]
