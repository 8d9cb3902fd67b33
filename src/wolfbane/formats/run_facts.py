"""The facts about a run that the report writers need."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from wolfbane.model import Result


class RunFacts(Protocol):
    """A run. ``began`` is an ISO 8601 time with a zone; ``seconds`` is its duration.

    ``reasons`` are the reasons for quarantined tests, by address.
    """

    @property
    def results(self) -> Sequence[Result]:
        """Every result, in order of completion."""

    @property
    def name(self) -> str:
        """The workspace's name."""

    @property
    def began(self) -> str:
        """The start of the run."""

    @property
    def seconds(self) -> float:
        """The duration of the run."""

    @property
    def version(self) -> str:
        """The version of Wolfbane that ran it."""

    @property
    def system(self) -> Mapping[str, str]:
        """The tested system, as far as known: ``revision`` and ``commit`` of the suites, the
        ``version`` of the system, the ``environment``.
        """

    @property
    def reasons(self) -> Mapping[str, str]:
        """The reasons for quarantined tests, by address."""
