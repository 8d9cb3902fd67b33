"""The settings of suites of kind ``cargo``."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from wolfbane.kinds.suite import Suite


@dataclass(frozen=True)
class CargoSuite(Suite):
    """A suite of Rust crates. ``options`` go to the toolchain, such as ``--all-features``.

    ``ignored`` says whether tests with the attribute ``ignore`` are skipped or run.
    """

    cargo: str = ""
    options: list[str] = field(default_factory=list)
    ignored: Literal["skip", "run"] = "skip"
