"""How long a start of a launcher may take."""

from __future__ import annotations

import time


class StartLimit:
    """The time limit of a start.

    It is ``starting`` seconds for the launcher itself, and ``limit`` seconds for each of its
    ``tests``. ``by_test``: the launcher prints a line when a test begins, so every test has the
    limit for itself, and a hang is found as soon as one test is over it.
    """

    def __init__(self, limit: float, tests: int, starting: float, *, by_test: bool) -> None:
        self.limit, self._by_test = limit, by_test
        self.total = starting + limit * (1 if by_test else tests)
        self._until = time.monotonic() + self.total

    def heard(self) -> None:
        """A test has begun, or has ended."""
        if self._by_test:
            self._until = time.monotonic() + self.limit
            self.total = self.limit

    @property
    def is_over(self) -> bool:
        """Whether the start has used its time."""
        return time.monotonic() > self._until

    @property
    def reason(self) -> str:
        """The reason for the end of a start that was too long."""
        what = "the launcher"
        if self._by_test:
            what = "a test"
        return f"{what} ran longer than {self.total:g} s"
