"""The file with one row per request of a load test."""

from __future__ import annotations

import gzip
from pathlib import Path

NAME = "samples.csv.gz"
COLUMNS = (
    "began_s", "user", "workflow", "step", "method", "url", "status", "whole_s", "first_byte_s",
    "connect_s", "tls_s", "sent_bytes", "received_bytes", "error",
)  # fmt: skip


class SampleFile:
    """Appends rows.

    Each write is a separate gzip member, so the file of a killed run can be read. After a failed
    write, no other is made, and ``trouble`` gives the reason.
    """

    def __init__(self, folder: Path, *, wanted: bool) -> None:
        self._path = folder / NAME
        self._whole = 0
        self.trouble = ""
        if wanted:
            self.add(",".join(COLUMNS) + "\n")

    def add(self, rows: str) -> None:
        """Append rows of CSV."""
        if not rows or self.trouble:
            return
        try:
            with self._path.open("ab") as file:
                self._whole += file.write(gzip.compress(rows.encode(), 1))
        except OSError as error:
            self.trouble = f"{NAME}: {error}"
            self._cut()

    def _cut(self) -> None:
        try:
            with self._path.open("r+b") as file:
                file.truncate(self._whole)
        except OSError:
            return
