"""TLS as a client: which certificates are trusted, and the client's own."""

from __future__ import annotations

import os
import ssl
import sys
from typing import Any, TypeVar

from wolfbane.kinds.workflow.runner.settings import HttpOptions


class TlsContext(ssl.SSLContext):
    """Reads the system's certificates when the first connection needs them.

    That takes longer than most requests, and many suites never use TLS.
    """

    needs_system: bool = False

    def wrap_bio(self, *args: Any, **kwargs: Any) -> ssl.SSLObject:
        """Start TLS on a connection in the way of asyncio and its libraries."""
        self.read_system()
        return super().wrap_bio(*args, **kwargs)

    def read_system(self) -> None:
        """Read the system's certificates now, if they are needed and not read yet."""
        if self.needs_system:
            self.needs_system = False
            self.load_default_certs(ssl.Purpose.SERVER_AUTH)


C = TypeVar("C", bound=TlsContext)


def tls_context(http: HttpOptions, make: type[C]) -> C:
    """A context with the values of ``ssl.create_default_context`` and of the settings."""
    context = make(ssl.PROTOCOL_TLS_CLIENT)
    if sys.version_info >= (3, 13):
        context.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN | ssl.VERIFY_X509_STRICT
    if keys := os.environ.get("SSLKEYLOGFILE"):
        context.keylog_filename = keys
    if http.verify is False:
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    elif isinstance(http.verify, str):
        context.load_verify_locations(cafile=http.verify)
    else:
        context.needs_system = True
    if http.certificate:
        context.load_cert_chain(http.certificate, http.key or None)
    return context
