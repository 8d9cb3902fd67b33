"""The worker of kind ``workflow``. It runs Arazzo workflows in Wolfbane's own interpreter."""

import gc
import ssl
import sys
from collections.abc import Iterator
from contextlib import contextmanager

# Imports make many objects and no garbage: looking for some takes a tenth of the start.
gc.set_threshold(50_000)
# httpx imports its own command line where it can, and with it a library for terminals: a third of
# the time that a worker takes to start. Without this module it goes on without that command line.
sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]
# Without this package httpx takes asyncio, which is right here; and to look for it in every folder
# of modules, several times for each request, took a seventh of a run.
sys.modules.setdefault("sniffio", None)  # type: ignore[arg-type]
# aiohttp makes TLS contexts while it is imported, for which all of the system's certificates are
# read, twice: that takes longer than a small run. Requests use contexts of ours (tls.py) only.
_READERS = ("load_default_certs", "set_default_verify_paths")


def _read_none(context: ssl.SSLContext, *purpose: object) -> None:
    """A replacement for the module that reads certificates."""


@contextmanager
def _no_certificates() -> Iterator[None]:
    own = {name: getattr(ssl.SSLContext, name) for name in _READERS}
    for name in _READERS:
        setattr(ssl.SSLContext, name, _read_none)
    try:
        yield
    finally:
        for name, reader in own.items():
            setattr(ssl.SSLContext, name, reader)


with _no_certificates():
    import aiohttp  # noqa: F401
