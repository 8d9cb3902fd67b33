"""The settings of suites of kind ``workflow``."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Self

from msgspec import field
from msgspec.structs import replace

from wolfbane.basis.toml_tables import SettingsTable
from wolfbane.basis.units import seconds, size
from wolfbane.kinds.relocation import Relocation
from wolfbane.kinds.suite import Suite
from wolfbane.kinds.workflow.document_cache import DEFAULT
from wolfbane.kinds.workflow.extensions import CHECKS


class Http(SettingsTable, frozen=True):
    """``[suite.http]``: how workflow requests are sent, and which checks apply to responses.

    ``security`` is by name of the security scheme. ``contract`` lists the active checks.
    ``headers`` are sent with every request. ``body_limit`` is the maximum size of a response body,
    in bytes. ``secret_fields`` are the fields, headers and cookies of responses that contain
    secrets.
    """

    base_url: str = ""
    headers: dict[str, str] = {}
    security: dict[str, str | dict[str, str]] = {}
    verify: bool | str = True
    certificate: str = ""
    key: str = ""
    proxy: str = ""
    connect: float | str = 5.0
    read: float | str = 30.0
    redirects: int = 10
    body_limit: int | str = 32 << 20
    copies: str = DEFAULT
    documents_token: str = ""
    secret_fields: list[str] = []
    contract: list[str] = field(default_factory=lambda: list(CHECKS))

    def relocated(self, to: Relocation) -> Self:
        """The settings with their paths relative to an outer workspace."""
        return replace(
            self,
            certificate=to.path(self.certificate),
            key=to.path(self.key),
            verify=to.path(self.verify) if isinstance(self.verify, str) else self.verify,
            copies=to.path(self.copies),
        )

    def wrong_limits(self, *, unfilled: bool = False) -> Iterator[tuple[str, str]]:
        """Keys and messages of limits that are not valid.

        ``unfilled`` accepts a value with a parameter in it.
        """
        for key, read in (("connect", seconds), ("read", seconds), ("body_limit", size)):
            value = getattr(self, key)
            if unfilled and isinstance(value, str) and "{" in value:
                continue
            try:
                read(value)
            except ValueError as error:
                yield key, f"'{key}': {error}"


class WorkflowSuite(Suite, frozen=True):
    """A suite of Arazzo documents; ``http`` defines how their requests are sent."""

    http: Http = field(default_factory=Http)
