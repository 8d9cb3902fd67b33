"""The cluster engine, based on Dask's scheduler: its machines, and an actor on each machine."""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import logging
import math
import os
import time
from collections.abc import AsyncIterator, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import msgspec

from wolfbane.cluster.here.packing import Manifest, contents
from wolfbane.cluster.messages import CoreMessage, MachineMessage, packed, unpacked
from wolfbane.cluster.there.actor import SILENCE, Machine, MachineFacts
from wolfbane.errors import BlockedError, InputError, Problem
from wolfbane.workspace.settings import Workspace

CONFIGURED = "cluster"
"""The value of ``--on`` that means the address in the settings."""
_PATIENCE = 10.0
"""Seconds within which the scheduler must accept the connection."""
_LOOK = 5.0
"""Seconds to wait for the scheduler's list of machines, after the first: the next request follows
soon.
"""
_POLL = 5.0
"""Seconds that a machine waits for a message."""
_CLOCK_LOOKS = 8


class MachineLost(Exception):
    """A machine no longer answers."""


class MachineLink:
    """The connection to one machine."""

    def __init__(
        self, address: str, name: str, slots: int, actor: Any, facts: MachineFacts
    ) -> None:
        self.address, self.name, self.slots, self.facts = address, name, slots, facts
        self._actor = actor
        self._broken = ""
        """The reason of the loss: after one failure, it is unknown which messages arrived."""

    async def clock_offset(self) -> tuple[float, float]:
        """The seconds by which the machine's clock is ahead of the local clock, and the maximum
        error.

        The fastest response is used: half of its round trip is the maximum error (RFC 5905, 8).
        Raises MachineLost.
        """
        looks: list[tuple[float, float]] = []
        for _ in range(_CLOCK_LOOKS):
            began = time.time()
            there = await self._ask("clock")
            took = time.time() - began
            looks.append((took / 2, there - began - took / 2))
        error, ahead = min(looks)
        return ahead, error

    async def bring(self, root: Path, manifest: Manifest) -> int:
        """Send the contents of a workspace that the machine lacks; returns their bytes.

        Raises MachineLost, and InputError for a file that changes during this time.
        """
        lacking = set(await self._ask("lacking", msgspec.json.encode(manifest)))
        files = {f.content: f for f in manifest.files if f.content in lacking and not f.link}
        sent = 0
        for piece in contents(root, files.values()):
            if trouble := await self._ask("take", piece):
                raise MachineLost(f"the machine cannot store the workspace: {trouble}")
            sent += sum(map(len, piece.values()))
        return sent

    async def start(self, job: CoreMessage) -> None:
        """Start the machine's part of a run. Raises MachineLost."""
        await self._ask("start")
        await self.send(job)

    async def send(self, message: CoreMessage) -> None:
        """Send a message. Raises MachineLost."""
        await self._ask("send", [packed(message)])

    async def messages(self) -> AsyncIterator[MachineMessage]:
        """The messages of the machine until its part of the run ends. Raises MachineLost."""
        over = False
        while not over:
            messages, over = await self._ask("receive", _POLL)
            for data in messages:
                for message in unpacked(data):
                    yield message

    async def close(self) -> None:
        """End everything on the machine, if it still responds."""
        with contextlib.suppress(MachineLost):
            await self._ask("close")

    async def _ask(self, method: str, *arguments: Any) -> Any:
        if self._broken:
            raise MachineLost(self._broken)
        try:
            # In Python 3.11, wait_for() loses a cancellation that comes together with the response.
            # The task that sends orders would never end.
            async with asyncio.timeout(SILENCE):
                return await self._method(method)(*arguments)
        except (OSError, TimeoutError, ValueError) as error:
            self._broken = _reason(error)
            raise MachineLost(self._broken) from None

    def _method(self, name: str) -> Any:
        """A method of the machine's actor. Raises ConnectionError if Dask knows that it is lost."""
        try:
            return getattr(self._actor, name)
        except RuntimeError:
            raise ConnectionError("the scheduler lost the machine") from None


class Engine:
    """A connection to the scheduler of a cluster. Raises BlockedError if no scheduler answers."""

    def __init__(self, address: str, tls: Mapping[str, str]) -> None:
        self._address, self._tls = address, tls
        self._client: Any = None
        self._actors: list[Any] = []
        self._machines: dict[str, tuple[str, int]] = {}
        self.answered = False
        """Whether the scheduler responded to the last request for its machines."""
        self._heard = -math.inf
        """The time of the scheduler's last response, as in ``time.monotonic``."""

    async def __aenter__(self) -> Engine:
        distributed = _library()
        # What its log says of lost machines and schedulers, the run says itself.
        for name in [each for each in logging.root.manager.loggerDict if "distributed" in each]:
            logging.getLogger(name).setLevel(logging.CRITICAL + 1)
        security = None
        if self._tls:
            security = distributed.Security(
                tls_ca_file=self._tls["ca"],
                tls_client_cert=self._tls["certificate"],
                tls_client_key=self._tls["key"],
                require_encryption=True,
            )
        self._client = distributed.Client(
            self._address,
            asynchronous=True,
            security=security,
            timeout=_PATIENCE,
            name="wolfbane",
        )
        try:
            # What speaks another protocol may be waited for without end.
            async with asyncio.timeout(_PATIENCE + 1):
                await self._client
        except (OSError, TimeoutError, ValueError, RuntimeError) as error:
            await self.__aexit__()
            message = str(error).partition("\n")[0] or (
                f"no connection within {_PATIENCE:.0f} s; "
                f"the address may belong to another kind of server"
            )
            raise BlockedError(
                f"--on {self._address}: cannot connect to the scheduler: {message}"
            ) from None
        return self

    async def __aexit__(self, *_: object) -> None:
        self._actors.clear()
        with contextlib.suppress(Exception):  # the scheduler may be gone
            async with asyncio.timeout(_PATIENCE):
                await self._client.close()

    async def machines(self) -> dict[str, tuple[str, int]]:
        """The machines that the scheduler knows, or knew at its last response.

        Name and slots by address. Raises MachineLost if the scheduler is lost.
        """
        if self._heard == -math.inf:
            limit = SILENCE
        else:
            limit = _LOOK
        try:
            async with asyncio.timeout(limit):
                identity = await self._client.scheduler.identity(n_workers=-1)
        except (OSError, TimeoutError):
            self.answered = False
            if self._client.status != "running" or time.monotonic() - self._heard > SILENCE:
                raise MachineLost("the scheduler does not answer") from None
        else:
            self._heard, self.answered = time.monotonic(), True
            self._machines = {
                address: (str(each["name"]), int(each["nthreads"]))
                for address, each in identity["workers"].items()
            }
        return self._machines

    async def link(self, address: str, name: str, slots: int, folder: str = "") -> MachineLink:
        """The connection to a machine. Raises MachineLost."""
        try:
            future = self._client.submit(
                Machine,
                folder,
                actor=True,
                workers=[address],
                allow_other_workers=False,
                pure=False,
            )
            async with asyncio.timeout(SILENCE):
                actor = await future
                facts = await actor.facts()
        except Exception as error:  # whatever the machine raises comes here: no module, no disk
            raise MachineLost(_reason(error)) from None
        self._actors.append(future)  # the engine ends an actor that nobody has a future of
        return MachineLink(address, name, slots, actor=actor, facts=facts)


def _reason(error: Exception) -> str:
    """The reason why a machine is lost, on one line."""
    if isinstance(error, TimeoutError):
        return f"the machine did not answer for {SILENCE:.0f} s"
    return str(error).partition("\n")[0] or type(error).__name__


TRUSTED = "WOLFBANE_CLUSTER"
"""The environment variable with an address that the user trusts without encryption."""


def cluster_address(workspace: Workspace, on: str, secrets: Sequence[str]) -> str:
    """The address for ``--on``: the address in the settings if it is empty or CONFIGURED.

    Raises InputError for an invalid address, and for secrets that would be sent without encryption.
    The program at an address can run code in this process. So an address from the settings, which
    may be those of a stranger, must be on this machine or use TLS, or be trusted by the user.
    """
    is_typed = bool(on) and on != CONFIGURED
    if is_typed:
        address = on
    else:
        address = workspace.settings.cluster.address
    parts = urlsplit(address)
    if parts.scheme not in ("tcp", "tls") or not parts.hostname or not parts.port:
        raise InputError(Problem(f"--on: '{address}' is not an address", hint="tcp://HOST:PORT"))
    if secrets and parts.scheme != "tls" and not _is_loopback(parts.hostname):
        message = f"--on {address}: secrets would be sent without encryption"
        raise InputError(
            Problem(message, hint="use a tls:// address, and set the TLS files in [cluster]")
        )
    is_safe = parts.scheme == "tls" or _is_loopback(parts.hostname)
    if not (is_typed or is_safe or os.environ.get(TRUSTED) == address):
        message = (
            f"--on: the address {address} in [cluster] is neither encrypted nor on this machine"
        )
        hint = f"if you trust it, use --on {address}, or set {TRUSTED}={address}"
        raise InputError(Problem(message, hint=hint))
    return address


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def _library() -> Any:
    try:
        import distributed
    except ImportError:
        hint = "pip install 'wolfbane[cluster]'"
        raise BlockedError(f"--on needs the package 'distributed': {hint}") from None
    return distributed
