"""A scheduler and workers of a cluster engine, for tests."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Sequence
from importlib.util import find_spec
from pathlib import Path

import psutil
import pytest

needs_engine = pytest.mark.skipif(find_spec("distributed") is None, reason="no cluster engine")
LINE = "Starting established connection"


class Machines:
    """A scheduler, and workers with folders of their own. ``tls`` are options of both."""

    def __init__(self, folder: Path, tls: Sequence[str] = ()) -> None:
        with socket.create_server(("127.0.0.1", 0)) as listening:
            port = listening.getsockname()[1]
        self.address = f"{'tls' if tls else 'tcp'}://127.0.0.1:{port}"
        self.folder, self.tls = folder, tls
        self.workers: dict[str, subprocess.Popen] = {}
        self.scheduler = self.start("scheduler", "scheduler", "--port", str(port))
        until(lambda: socket.socket().connect_ex(("127.0.0.1", port)) == 0, self.scheduler)

    def start(self, name, what, *arguments):
        command = [str(Path(sys.executable).parent / "dask"), what]
        local = ["--host", self.address.partition(":")[0] + "://127.0.0.1", "--no-dashboard"]
        folder = self.folder / name
        folder.mkdir(exist_ok=True)
        tools = folder / "bin"
        tools.mkdir(exist_ok=True)
        if name == "quay-1":
            (tools / "tidetool").write_text("#!/bin/sh\necho 1..1; echo ok 1\n")
            (tools / "tidetool").chmod(0o755)
        environment = {
            **os.environ,
            "XDG_CACHE_HOME": str(folder / "cache"),
            "PATH": f"{tools}:{os.environ['PATH']}",
        }
        return subprocess.Popen(
            [*command, *local, *self.tls, *arguments],
            cwd=folder,
            env=environment,
            stdout=subprocess.DEVNULL,
            stderr=(folder / "log").open("w"),
        )

    def join(self, name, *arguments, named=True):
        worker = self.start(
            name,
            "worker",
            self.address,
            "--nthreads",
            "1",
            "--no-nanny",
            *(("--name", name) if named else ()),
            *arguments,
        )
        self.workers[name] = worker
        until(lambda: LINE in (self.folder / name / "log").read_text(), worker)

    def contents(self, name):
        folder = self.folder / name / "cache" / "wolfbane" / "machine" / "contents"
        return {path.name: path.stat().st_mtime_ns for path in folder.iterdir()}

    def close(self):
        for process in (*self.workers.values(), self.scheduler):
            process.kill()
            process.wait()


def until(happened, process=None):
    """Wait until something has happened, as long as a process lives; two minutes at most."""
    end = time.monotonic() + 120
    while not happened():
        assert time.monotonic() < end, _output(process)
        assert process is None or process.poll() is None, _output(process)
        time.sleep(0.05)


def _output(process):
    """What a process wrote until it ended, or ends now, if it writes to us."""
    if process is None or process.stdout is None:
        return "there is no output"
    process.send_signal(signal.SIGINT)
    try:
        return process.communicate(timeout=30)
    except subprocess.TimeoutExpired as error:
        process.kill()
        return error.stdout, error.stderr, "it did not end"


@pytest.fixture(scope="module")
def machines(tmp_path_factory):
    result = Machines(tmp_path_factory.mktemp("machines"))
    result.join("quay-1")
    result.join("quay-2")
    yield result
    result.close()


def owner(machines, pid):
    """The worker below which a process runs."""
    above = {process.pid for process in psutil.Process(pid).parents()}
    for name, worker in machines.workers.items():
        if worker.pid in above:
            return name, worker
    raise AssertionError("no worker started it")
