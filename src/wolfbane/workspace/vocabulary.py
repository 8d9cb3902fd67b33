"""The words that settings are written with. Quick to import: a shell waits for them."""

from __future__ import annotations

import re

SETTINGS_NAME = "wolfbane.toml"
KINDS = ("python", "doctest", "node", "cargo", "tap", "scenario", "workflow", "bridge")
TYPES = (
    "text", "integer", "number", "boolean", "duration", "url", "path", "choice", "list",
)  # fmt: skip
ENGINES = ("chromium", "firefox", "webkit")
OTHER_ENGINE = "other"
"""Any driver that conforms to the standard."""
ENDPOINT_PARTS = ("url", "host", "port", "path", "browser")
"""What a suite's ``webdriver`` table can name variables for."""
WINDOW = re.compile(r"(\d+)x(\d+)")
ENV_WORDS = ("extends", "values_from", "ready", "services")
SURROUNDINGS = "environment"
"""What a suite ``needs`` that waits for its environment, and for no service."""
CHECKS = ("status", "type", "headers", "body")
"""Of responses against their description."""
DEFAULT_COPIES = ".wolfbane/copies"
VALUE_FORMS = ("json", "env")
DEFAULT_TIMEOUT = 600.0
_DURATION = re.compile(r"(\d+(?:\.\d+)?)\s*(ms|s|m|h|d)?")
_SECONDS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0, None: 1.0}


def seconds(value: object) -> float:
    """Read a duration: a number of seconds, or text such as ``250ms``, ``30s``, ``5m``, ``1d``."""
    if isinstance(value, int | float) and not isinstance(value, bool) and value > 0:
        return float(value)
    match = _DURATION.fullmatch(value.strip()) if isinstance(value, str) else None
    if match is None or float(match[1]) == 0:
        raise ValueError(f"{value!r} is not a duration (write 30, '250ms', '30s', '5m' or '1h')")
    return float(match[1]) * _SECONDS[match[2]]
