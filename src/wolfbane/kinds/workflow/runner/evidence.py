"""The evidence of a workflow: an archive of its exchanges, and a command for each request."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any

from wolfbane import __version__
from wolfbane.formats import har
from wolfbane.kinds.workflow.runner.scope import Answer, Call
from wolfbane.kinds.workflow.runner.sending import NoAnswer
from wolfbane.kinds.workflow.runner.settings import HttpOptions

_OWN = {"host", "accept", "accept-encoding", "connection", "user-agent", "content-length"}
_LONGEST = 2000


class Exchanges:
    """The requests and responses of one attempt of a test, and bodies stored as files."""

    def __init__(self) -> None:
        self.entries: list[dict[str, Any]] = []
        self.bodies: dict[str, bytes] = {}

    def add(
        self,
        call: Call,
        answer: Answer | None,
        seconds: float,
        step: str,
        failed: NoAnswer | None = None,
    ) -> None:
        """Store one exchange with its duration; ``step`` is the step that made it.

        Each redirect is a separate exchange, also before a request that ``failed``.
        """
        began = datetime.now().astimezone() - timedelta(seconds=seconds)
        hops, last = redirects_of(answer, failed)
        for asked, hop in hops:
            self._put(asked, hop, hop.seconds, began=began, step=step)
            began += timedelta(seconds=hop.seconds)
            seconds -= hop.seconds
        self._put(last or call, answer, max(seconds, 0.0), began=began, step=step)

    def step_ended(self, step: str, problem: Exception | None) -> None:
        """A step has ended: its exchanges need no more processing."""

    def _put(
        self, call: Call, answer: Answer | None, seconds: float, began: datetime, step: str
    ) -> None:
        response = None
        if answer is not None:
            response = {
                "status": answer.status,
                "headers": answer.headers,
                "content": answer.content,
                "http": answer.http,
                "wire": answer.wire,
            }
        at = began.isoformat(timespec="milliseconds")
        self.entries.append(
            har.entry(
                began=at,
                seconds=seconds,
                method=call.method,
                url=call.url,
                sent=call.headers,
                content=call.content,
                answer=response,
                comment=step,
            )
        )

    def archive(self) -> dict[str, Any]:
        """All of it as HAR 1.2."""
        return har.archive(self.entries, __version__)

    def curl(self, call: Call, http: HttpOptions) -> str:
        """A line for a POSIX shell that sends the same request, and the headers that it omits.

        A body that is long or not text is stored as a file: its mark represents the file's path.
        """
        arguments = ["curl", "-i", *_method(call), *_connection(call, http)]
        hidden = []
        for name, value in call.headers.items():
            if name.lower() not in _OWN:
                shown = har.shown(name, value)
                arguments += ["-H", f"{name}: {shown}"]
                if shown != value:
                    hidden.append(name)
        if call.content:
            arguments += ["--data-binary", self._data(call.content)]
        line = shlex.join([*arguments, call.url])
        if hidden:
            line += f"\n(replace {' and '.join(hidden)} with the real value, which is masked here)"
        return line

    def _data(self, content: bytes) -> str:
        if len(content) <= _LONGEST and not content.startswith(b"@"):
            try:
                return content.decode()
            except UnicodeDecodeError:
                pass
        mark = f"<body {len(self.bodies) + 1} of this test>"
        self.bodies[mark] = content
        return f"@{mark}"


def redirects_of(
    answer: Answer | None, failed: NoAnswer | None
) -> tuple[Sequence[tuple[Call, Answer]], Call | None]:
    """The redirects of an exchange, and the request that they led to, if any."""
    trail = failed if answer is None else answer
    return (trail.hops, trail.asked) if trail is not None and trail.hops else ((), None)


def _method(call: Call) -> list[str]:
    """The option for a method that the other options do not imply."""
    if call.method == "HEAD":
        return ["-I"]
    usual = "GET"
    if call.content:
        usual = "POST"
    if call.method == usual:
        return []
    return ["-X", call.method]


def _connection(call: Call, http: HttpOptions) -> list[str]:
    """The options for brackets in the URL, redirects, TLS and a proxy."""
    if any(sign in call.url for sign in "[]{}"):
        options = ["-g"]
    else:
        options = []
    if http.redirects:
        options += ["-L"]
    if http.verify is False:
        options.append("-k")
    elif isinstance(http.verify, str):
        options += ["--cacert", http.verify]
    if http.certificate:
        options += ["--cert", http.certificate]
    if http.key:
        options += ["--key", http.key]
    if http.proxy:
        return [*options, "-x", http.proxy]
    return options
