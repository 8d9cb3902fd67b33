"""Wolfbane's own fields in Arazzo documents. The standard reserves ``x-`` fields for tools."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from wolfbane.errors import did_you_mean

ROWS = "x-rows"
TAGS = "x-tags"
FILE = "x-file"
CONTRACT = "x-contract"
READ = "x-read"
CONNECT = "x-connect"
UNTIL = "x-until"
CHECKS = ("status", "type", "headers", "body")
"""The checks of responses against their description, which ``x-contract`` lists."""


def unknown_checks(checks: Collection[object]) -> Iterator[str]:
    """An error for each name that is not a check of responses."""
    for check in checks:
        if check not in CHECKS:
            yield f"there is no check '{check}'; {did_you_mean(str(check), CHECKS)}"
