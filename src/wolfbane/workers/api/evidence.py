"""What a workflow leaves behind: an archive of its exchanges, and a command for each."""

from __future__ import annotations

import shlex
from datetime import datetime
from typing import Any

from wolfbane import __version__
from wolfbane.formats import har
from wolfbane.workers.api.scope import Answer, Call

_OWN = {"host", "accept", "accept-encoding", "connection", "user-agent", "content-length"}
_LONGEST = 2000


class Exchanges:
    """The requests and answers of one attempt of one test."""

    def __init__(self) -> None:
        self.entries: list[dict[str, Any]] = []

    def add(self, call: Call, answer: Answer | None, seconds: float, step: str) -> None:
        """Keep one exchange; ``step`` is the step that made it."""
        told = None
        if answer is not None:
            told = {
                "status": answer.status, "headers": answer.headers, "content": answer.content,
                "http": answer.http,
            }  # fmt: skip
        began = datetime.now().astimezone().isoformat(timespec="milliseconds")
        self.entries.append(
            har.entry(began, seconds, call.method, call.url, call.headers, call.content, told, step)
        )

    def archive(self) -> dict[str, Any]:
        """All of it as HAR 1.2."""
        return har.archive(self.entries, __version__)


def curl(call: Call) -> str:
    """A line for a POSIX shell that sends the same request."""
    words = ["curl", "-i", "-X", call.method]
    for name, value in call.headers.items():
        if name.lower() not in _OWN:
            words += ["-H", f"{name}: {har.shown(name, value)}"]
    if call.content and len(call.content) <= _LONGEST:
        words += ["--data-binary", call.content.decode("utf-8", "replace")]
    return shlex.join([*words, call.url])
