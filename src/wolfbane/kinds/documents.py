"""Documents that suites refer to by URL, and the saved copies that runs use."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from wolfbane.kinds.freshness import Freshness


class Fetching(msgspec.Struct, frozen=True):
    """The way to download; ``fill`` inserts parameters into a text."""

    freshness: Freshness
    fill: Callable[[str], str]


class Copy(msgspec.Struct, frozen=True, kw_only=True):
    """The data of a copy: its file, its download time (ISO 8601), its digest and ETag."""

    url: str
    file: str = msgspec.field(name="place")
    """The path from the workspace's folder. Its key in an index is ``place``."""
    fetched: str
    digest: str
    etag: str = ""

    @property
    def description(self) -> str:
        """For display: ``fetched 2026-03-01T08:00:00+00:00, sha256 1f2e3d4c5b6a``."""
        return f"fetched {self.fetched}, sha256 {self.digest[:12]}"


class Fetched(msgspec.Struct):
    """The copies that a suite uses, by URL, with warnings and failed downloads."""

    copies: dict[str, Copy] = msgspec.field(default_factory=dict)
    warnings: list[str] = msgspec.field(default_factory=list)
    problems: list[str] = msgspec.field(default_factory=list)
