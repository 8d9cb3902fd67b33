"""The words that settings use. This module imports quickly, because shell completion uses it."""

from __future__ import annotations

import re
from typing import Literal, get_args

SETTINGS_NAME = "wolfbane.toml"
STATUSES = (
    "passed",
    "flaky",
    "failed",
    "errored",
    "timed-out",
    "crashed",
    "blocked",
    "skipped",
    "todo",
    "assertion",
    "new",
    "slower",
)
"""The values of ``status:``: outcomes as a shell writes them, and three more words.

``failed`` means every outcome that fails a run; ``assertion`` only the outcome of that name.
"""
TYPES = (
    "text",
    "integer",
    "number",
    "boolean",
    "duration",
    "url",
    "path",
    "choice",
    "list",
)
EngineName = Literal["chromium", "firefox", "webkit", "other"]
"""One line for each browser engine: the name of its module, and of the engine in settings."""
OTHER_ENGINE = "other"
"""Any driver that conforms to the standard."""
ENGINES = tuple(name for name in get_args(EngineName) if name != OTHER_ENGINE)
ENDPOINT_PARTS = ("url", "host", "port", "path", "browser", "downloads")
"""The parts that a suite's ``webdriver`` table can assign to variables."""
WINDOW = re.compile(r"(\d+)x(\d+)")
ENV_WORDS = ("extends", "values_from", "ready", "services", "load", "version")
VERSION = "version"
SURROUNDINGS = "environment"
"""The ``needs`` of a suite that waits for its environment but for no service."""
VALUE_FORMS = ("json", "env")
OFF, FAILURES, ALL = "off", "failures", "all"
EVIDENCE_POLICIES = (OFF, FAILURES, ALL)
"""The tests whose evidence of a browser is stored."""
DEFAULT_TIMEOUT = 600.0


def is_env_word(key: str, value: object) -> bool:
    """Whether a key of an environment's table is a setting, and not a parameter's value.

    ``version`` is a setting only as a table: many systems have a parameter with this name.
    """
    return key in ENV_WORDS and (key != VERSION or isinstance(value, dict))
