"""Services: programs that suites need, started and stopped with a run."""

from __future__ import annotations

import asyncio
import contextlib
import os
import re
import signal
import subprocess
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import BinaryIO

import msgspec

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.environments import Environment, ServicePlan
from wolfbane.events.run_events import Event, Starting
from wolfbane.model import at
from wolfbane.setup.port_owner import listeners, ports_of, strangers
from wolfbane.setup.probes import Prober
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workspace.probes import START_PATIENCE

STOP_PATIENCE = 2.0
_TICK = 0.02


class Log:
    """Writes the output of a service to a file of the run, line by line, with masked secrets."""

    def __init__(self, path: Path, mask: Callable[[str], str]) -> None:
        self.path, self._mask = path, mask
        self.last = ""
        self._file: BinaryIO = path.open("wb", buffering=0)
        self._rest = b""
        self._reading, self.writing = os.pipe()
        os.set_blocking(self._reading, False)
        asyncio.get_running_loop().add_reader(self._reading, self._read)

    def _read(self) -> bool:
        """Read the available output; returns whether more may be available immediately."""
        try:
            data = os.read(self._reading, 1 << 16)
        except BlockingIOError:
            return False
        if not data:
            asyncio.get_running_loop().remove_reader(self._reading)
        *lines, self._rest = (self._rest + data).split(b"\n")
        for line in lines:
            self._write(line + b"\n")
        return bool(data)

    def _write(self, line: bytes) -> None:
        text = self._mask(line.decode("utf-8", "backslashreplace"))
        self.last = text.strip() or self.last
        self._file.write(text.encode())

    def close(self) -> None:
        """Write the remaining output, and close."""
        while self._read():
            pass
        asyncio.get_running_loop().remove_reader(self._reading)
        os.close(self._reading)
        if self._rest:
            self._write(self._rest)
        self._file.close()


class _Running(msgspec.Struct):
    plan: ServicePlan
    process: subprocess.Popen[bytes]
    member: str
    log: Log
    ready: bool = False


class Services:
    """Starts and stops the services of one environment."""

    def __init__(
        self,
        environment: Environment,
        group: ProcessGroup,
        root: Path,
        folder: Path,
        tell: Callable[[Event], None],
        mask: Callable[[str], str],
        stopping: Callable[[], bool],
    ) -> None:
        self._environment, self._group = environment, group
        self._root, self._folder = root, folder
        self._tell, self._mask, self._stopping = tell, mask, stopping
        self._running: list[_Running] = []

    async def start(self, names: Sequence[str]) -> dict[str, str]:
        """Start these in the order of the settings.

        Returns those that did not become ready, with the reason.
        """
        failures: dict[str, str] = {}
        for name, plan in self._environment.services.items():
            if name in names and not self._stopping():
                why = await self._start(plan)
                if why:
                    failures[name] = f"service {name} {self._mask(why)}"
        return failures

    async def _start(self, plan: ServicePlan) -> str:
        label = self._environment.label
        ports = ports_of(plan.port, plan.probes)
        if taken := listeners(ports):  # it would answer in the service's place
            return f"cannot start: {taken[0]}"
        self._tell(Starting(plan.name, plan.port, label))
        name = re.sub(r"[^\w.=-]", "_", at(plan.name, label).replace(" @", "-"))
        log = Log(self._folder / f"service-{name}.log", self._mask)
        member = f"service-{name}"
        try:
            process = self._group.start(
                plan.command, plan.folder, plan.variables, log.writing, member
            )
        except OSError as error:
            log.close()
            return f"cannot start {plan.command[0]}: {error.strerror}"
        finally:
            os.close(log.writing)
        running = _Running(plan=plan, process=process, member=member, log=log)
        self._running.append(running)

        def given_up() -> bool:
            return process.poll() is not None or self._stopping()

        prober = Prober(
            group=self._group, folder=plan.folder, variables=plan.variables, given_up=given_up
        )
        waits = [prober.wait(probe, START_PATIENCE) for probe in plan.probes]
        whys = await asyncio.gather(*waits)
        if process.poll() is not None and not self._stopping():
            return f"stopped before it was ready ({self._end(running)})"
        late = [why for why in whys if why] or list(map(str, strangers(ports, process.pid)))
        running.ready = not late
        if late:
            return f"is not ready: {'; '.join(late)}"
        return ""

    def ended(self) -> list[str]:
        """The services that ended by themselves while they were needed."""
        return [
            f"service {at(one.plan.name, self._environment.label)} "
            f"stopped during the run ({self._end(one)})"
            for one in self._running
            if one.ready and one.process.poll() is not None
        ]

    async def stop(self) -> None:
        """Ask every service to end, the last one first; then end the remaining processes."""
        for one in reversed(self._running):
            with contextlib.suppress(OSError):
                os.killpg(one.process.pid, signal.SIGTERM)
            limit = time.monotonic() + STOP_PATIENCE
            while one.process.poll() is None and time.monotonic() < limit:
                await asyncio.sleep(_TICK)
            self._group.end(one.process, one.member)
            one.log.close()
        self._running.clear()

    def _end(self, one: _Running) -> str:
        last_words = ""
        if one.log.last:
            last_words = f"; last output: {one.log.last}"
        log = os.path.relpath(one.log.path, self._root)
        return f"{how_it_ended(one.process.returncode)}{last_words}; log file: {log}"
