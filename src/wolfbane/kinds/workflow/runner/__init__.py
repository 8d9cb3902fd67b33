"""The worker of kind ``workflow``: it runs Arazzo workflows itself, in Wolfbane's own runtime."""

import sys

# httpx imports its own command line where it can, and with it a library for terminals: a third of
# the time that a worker takes to start. Without this module it goes on without that command line.
sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]
# Without this package httpx takes asyncio, which is right here; and to look for it in every folder
# of modules, several times for each request, took a seventh of a run.
sys.modules.setdefault("sniffio", None)  # type: ignore[arg-type]
