"""Errors with their own source position, which is not in the stack."""

from __future__ import annotations

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Tuple


class LocatedError(Exception):
    """``location`` is the file and the line of the error."""

    def __init__(self, message: str, location: Tuple[str, int]) -> None:
        super().__init__(message)
        self.location = location


class ExampleFailed(LocatedError, AssertionError):
    """An example gave a different result than written."""


class MalformedExamples(LocatedError, ValueError):
    """Examples that cannot be parsed."""
