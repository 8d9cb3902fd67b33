"""The connections of a suite in a normal run: HTTP/2 for TLS addresses, otherwise the faster
library.
"""

from __future__ import annotations

from functools import cached_property

from yarl import URL

from wolfbane.kinds.workflow.runner.aiohttp_transport import AiohttpTransport, TimedContext
from wolfbane.kinds.workflow.runner.scope import Call
from wolfbane.kinds.workflow.runner.settings import HttpOptions
from wolfbane.kinds.workflow.runner.tls import tls_context
from wolfbane.kinds.workflow.runner.transport import Exchange, Timing, Transport


class SuiteTransport(Transport):
    """Sends a request with the library for its URL."""

    def __init__(self, http: HttpOptions) -> None:
        self._http = http
        self._plain = AiohttpTransport(http, tls_context(http, TimedContext))

    @cached_property
    def _secure(self) -> Transport:
        from wolfbane.kinds.workflow.runner.httpx_transport import HttpxTransport  # takes a while

        return HttpxTransport(self._http)

    async def start(self, call: Call, url: URL, timing: Timing) -> Exchange:
        transport = self._secure if url.scheme == "https" else self._plain
        return await transport.start(call, url, timing)

    async def close(self) -> None:
        await self._plain.close()
        if "_secure" in self.__dict__:
            await self._secure.close()
