"""Errors with their own source position, which is not in the stack."""

from __future__ import annotations

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Tuple


class Placed(Exception):
    """``place`` is the file and the line of the error."""

    def __init__(self, message: str, place: Tuple[str, int]) -> None:
        super().__init__(message)
        self.place = place


class ExampleFailed(Placed, AssertionError):
    """An example gave a different result than written."""


class MalformedExamples(Placed, ValueError):
    """Examples that cannot be parsed."""
