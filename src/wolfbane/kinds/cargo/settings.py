"""The settings of suites of kind ``cargo``."""

from __future__ import annotations

from typing import Literal

from wolfbane.kinds.suite import Suite


class CargoSuite(Suite, frozen=True):
    """A suite of Rust crates. ``options`` go to the toolchain, such as ``--all-features``.

    ``ignored`` decides whether tests with the attribute ``ignore`` are skipped or run.
    """

    cargo: str = ""
    options: list[str] = []
    ignored: Literal["skip", "run"] = "skip"
