"""Repeats a readiness check until the system is ready or the time is over."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workspace.probes import Probe

PAUSE = 0.05
LONGEST_PAUSE = 0.5


class Prober(msgspec.Struct, frozen=True):
    """Runs readiness checks. ``variables`` and ``folder`` are used for checks that are commands."""

    group: ProcessGroup
    folder: Path
    variables: Mapping[str, str]
    given_up: Callable[[], bool]

    async def wait(self, probe: Probe, patience: float) -> str:
        """Repeat the check for at most ``patience`` seconds; returns the reason if it failed."""
        within = probe.within or patience
        if probe.way == "http":
            import httpx  # noqa: F401  # loading it may take a second, which does not count
        end = time.monotonic() + within
        pause, why = PAUSE, ""
        while True:
            left = max(0.05, end - time.monotonic())
            try:
                why = await asyncio.wait_for(self._look(probe), left)
            except TimeoutError:
                why = why or "no response"
            if not why or self.given_up():
                return ""
            if time.monotonic() + pause >= end:
                return f"{probe.description}: {why} (within {within:g} s)"
            await asyncio.sleep(pause)
            pause = min(2 * pause, LONGEST_PAUSE)

    async def _look(self, probe: Probe) -> str:
        if probe.way == "http":
            return await _http(probe.target[0])
        if probe.way == "tcp":
            return await _tcp(probe.target[0])
        return await self._command(probe)

    async def _command(self, probe: Probe) -> str:
        member = "probe"
        try:
            process = self.group.start(
                probe.target, self.folder, self.variables, Path("/dev/null"), member
            )
        except OSError as error:
            return str(error.strerror or error)
        try:
            while process.poll() is None:
                await asyncio.sleep(PAUSE)
        finally:
            self.group.end(process, member)
        if process.returncode:
            return how_it_ended(process.returncode)
        return ""


async def _http(address: str) -> str:
    import httpx

    try:
        async with httpx.AsyncClient(timeout=None, verify=address.startswith("https:")) as client:
            answer = await client.get(address)
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        return _plain(error)
    if answer.is_error:
        return f"status {answer.status_code}"
    return ""


async def _tcp(address: str) -> str:
    driver, _, port = address.rpartition(":")
    try:
        _, writer = await asyncio.open_connection(driver.strip("[]") or "127.0.0.1", int(port))
    except ValueError:
        return f"'{port}' is not a port number"
    except OSError as error:
        return error.strerror or str(error)
    writer.close()
    return ""


def _plain(error: Exception) -> str:
    """``connection refused`` instead of the library's message."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ConnectionRefusedError):
            return "connection refused"
        cause = cause.__cause__ or cause.__context__
    return str(error) or type(error).__name__
