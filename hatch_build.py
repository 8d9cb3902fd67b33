"""The README for an index page: there its links and pictures have no folder around them."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from hatchling.metadata.plugin.interface import MetadataHookInterface

_LINK = re.compile(r"(!?)\[([^\]]*)\]\((?!https?:|#)([^)]+)\)")


class ReadmeHook(MetadataHookInterface):
    """Links lead to the project's source, pictures to their raw files."""

    def update(self, metadata: dict[str, Any]) -> None:
        """Put the README into the metadata."""
        source = metadata["urls"]["Source"].rstrip("/")

        def whole(link: re.Match[str]) -> str:
            picture, text, path = link.groups()
            way = "raw" if picture else "src"
            return f"{picture}[{text}]({source}/{way}/main/{path})"

        text = (Path(self.root) / "README.md").read_text(encoding="utf-8")
        metadata["readme"] = {"content-type": "text/markdown", "text": _LINK.sub(whole, text)}
