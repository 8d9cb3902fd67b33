"""The entries of the history: a run, and the result of a test in it."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from wolfbane.model import Test

QUARANTINED = "quarantined"
"""The name among the outcomes of a run for its quarantined tests."""


class TestEnd(msgspec.Struct, frozen=True):
    """The short result of a test in a run. ``message`` is its first line.

    ``address`` ends with its environment, ``@staging``, even if the run had only one.
    """

    address: str
    suite: str
    outcome: str
    seconds: float
    attempts: int = 1
    message: str = ""
    environment: str = ""
    quarantined: bool = False

    @property
    def place(self) -> str:
        """The address without the environment."""
        return self.address.removesuffix(f" @{self.environment}")

    @property
    def test(self) -> Test:
        """As a test of an unknown kind, for a selection. A report may name no file."""
        path, _, name = self.place.rpartition("#")
        return Test(suite=self.suite, kind="", path=path, name=name, exact=True)


def with_quarantined(counts: Mapping[str, int], quarantined: int) -> dict[str, int]:
    """The counts of a run for its entry."""
    if quarantined:
        return {**counts, QUARANTINED: quarantined}
    return dict(counts)


class RunEntry(msgspec.Struct, frozen=True):
    """A recorded run. ``began`` is in ISO 8601 with a zone, ``seconds`` is its duration.

    ``counts`` has a number for each outcome, without quarantined tests, and the number of these.
    ``reason`` is the reason for an early end. ``revision`` is the value of ``--at``,
    ``commit_hash`` the commit of the suites, from which files differ if ``changed``. ``version`` is
    the version that the environments reported.
    """

    name: str
    began: str
    seconds: float
    exit_code: int
    counts: dict[str, int]
    target: str = ""
    command: str = ""
    expression: str = ""
    origin: str = "run"
    id: int = 0
    workspace: str = ""
    workspace_name: str = ""
    reason: str = ""
    revision: str = ""
    commit_hash: str = ""
    changed: bool = False
    version: str = ""

    @property
    def wanted(self) -> tuple[str, str, str]:
        """The selection and the environment: runs in which they are the same can be compared."""
        return self.expression, self.target, self.revision
