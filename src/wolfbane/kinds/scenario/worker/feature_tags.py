"""The tags above a heading of a feature file: ``@slow @team=quay``."""

from __future__ import annotations

import re

from wolfbane.kinds.scenario.worker.scenarios import FeatureError

_TAG = re.compile(r"@[^\s@]+")


class Tags:
    """The tags of one heading; ``line`` is the first line with tags, or 0."""

    def __init__(self) -> None:
        self.names: list[str] = []
        self.line = 0
        self.problem: FeatureError | None = None

    def read(self, text: str, number: int) -> None:
        """Add the tags of a line."""
        if not self.names:
            self.line = number
        text = re.sub(r"\s#.*", "", text)
        self.names += [tag[1:] for tag in _TAG.findall(text)]
        if rest := _TAG.sub("", text).strip():
            message = f"'{shortened(rest)}' in a tag line: each tag must start with @"
            self.problem = FeatureError(message, number)


def shortened(line: str) -> str:
    """A line of a feature file, for messages."""
    if len(line) <= 40:
        return line
    return f"{line[:37]}..."
