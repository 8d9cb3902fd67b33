"""The evidence files of tests, stored in the folder of the run."""

from __future__ import annotations

import re
from pathlib import Path

from wolfbane.environments import Mask
from wolfbane.model import Evidence

_ENDINGS = {
    "screenshot": "png",
    "picture": "png",
    "page": "html",
    "console": "console.txt",
    "protocol": "protocol.txt",
    "network": "network.txt",
    "replay": "replay.json",
    "filmstrip": "webp",
}
_UNMASKED = "pictures and other binary files are not masked: they may show secrets"


class EvidenceFiles:
    """Numbers and writes evidence files. Masks secrets in text files.

    ``warnings`` say what is not masked.
    """

    def __init__(self, root: Path, folder: Path, mask: Mask) -> None:
        self._root, self._folder, self._mask = root, folder, mask
        self._count = 0
        self.warnings: list[str] = []

    def keep(self, address: str, kind: str, content: str | bytes, name: str = "") -> Evidence:
        """Write an evidence file of a test. ``name`` is its own name, if it has one.

        If the file cannot be written, its path is empty, and reports show this.
        """
        self._count += 1
        if name:
            name_in_run = f"evidence/{self._count:04}-{_plain(name)[-60:]}"
        else:
            start = _plain(address.rpartition("#")[2] or address)[:60]
            name_in_run = f"evidence/{self._count:04}-{start}.{_plain(_ENDINGS.get(kind, kind))}"
        path = self._folder / name_in_run
        if isinstance(content, str):
            content = self._mask(content).encode()
        elif self._mask.hides_something and _UNMASKED not in self.warnings:
            self.warnings.append(_UNMASKED)
        try:
            _write(path, content)
        except OSError:
            path.unlink(missing_ok=True)
        return Evidence(kind, name_in_run, name)

    def path(self, evidence: Evidence) -> str:
        """The path of an evidence file, relative to the workspace's root if it is inside."""
        path = self._folder / evidence.path
        inside = path.is_relative_to(self._root)
        return str(path.relative_to(self._root) if inside else path)


def _plain(name: str) -> str:
    return re.sub(r"[^\w.-]+", "-", name).strip("-")


def _write(path: Path, content: bytes) -> None:
    try:
        path.write_bytes(content)
    except FileNotFoundError:  # the first file of the run: to make sure each time costs as much
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(content)
