"""A run over separate hosts: network namespaces with addresses and folders of their own."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import psutil
import pytest

from cluster_machines import needs_engine, until
from conftest import suite

DASK = str(Path(sys.executable).parent / "dask")
NETWORK = "10.77.9"


def ip(*arguments):
    subprocess.run(["ip", *arguments], check=True, capture_output=True, text=True)


def why_not():
    """Why there can be no namespaces here, or nothing."""
    if not shutil.which("ip"):
        return "the program 'ip' is not installed"
    name = f"quay-try-{os.getpid()}"
    done = subprocess.run(["ip", "netns", "add", name], capture_output=True, text=True, check=False)
    if done.returncode:
        return f"network namespaces are not permitted: {done.stderr.strip()}"
    ip("netns", "delete", name)
    return ""


REASON = why_not()
pytestmark = [needs_engine, pytest.mark.skipif(bool(REASON), reason=REASON)]


class Hosts:
    """A bridge here, and a namespace for each host at its other end."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.bridge = f"qb{os.getpid() % 10_000_000}"
        self.names: dict[str, int] = {}
        self.processes: dict[str, subprocess.Popen] = {}
        ip("link", "add", self.bridge, "type", "bridge")
        ip("addr", "add", f"{NETWORK}.1/24", "dev", self.bridge)
        ip("link", "set", self.bridge, "up")

    def add(self, name):
        number = len(self.names) + 2
        self.names[name] = number
        space, outer = self.space(name), self.link(name)
        ip("netns", "add", space)
        ip("link", "add", outer, "type", "veth", "peer", "name", "eth0", "netns", space)
        ip("link", "set", outer, "master", self.bridge, "up")
        ip("-n", space, "addr", "add", f"{NETWORK}.{number}/24", "dev", "eth0")
        ip("-n", space, "link", "set", "eth0", "up")
        ip("-n", space, "link", "set", "lo", "up")

    def space(self, name):
        return f"{self.bridge}-{name}"

    def link(self, name):
        return f"{self.bridge}v{self.names[name]}"

    def cut_off(self, name):
        ip("link", "set", self.link(name), "down")

    def start(self, name, what, *arguments):
        folder = self.folder / name
        folder.mkdir(exist_ok=True)
        environment = {**os.environ, "XDG_CACHE_HOME": str(folder / "cache")}
        command = ["ip", "netns", "exec", self.space(name), DASK, what, "--no-dashboard"]
        host = ["--host", f"{NETWORK}.{self.names[name]}"]
        self.processes[name] = subprocess.Popen(
            [*command, *host, *arguments],
            cwd=folder,
            env=environment,
            stdout=subprocess.DEVNULL,
            stderr=(folder / "log").open("w"),
        )

    def scheduler(self):
        self.add("s")
        self.start("s", "scheduler", "--port", "8786")
        return f"tcp://{NETWORK}.2:8786"

    def machine(self, name):
        self.add(name)
        # Something that only this host can reach.
        gauge = [sys.executable, "-m", "http.server", "--bind", "127.0.0.1", "8099"]
        self.processes[f"{name} gauge"] = subprocess.Popen(
            ["ip", "netns", "exec", self.space(name), *gauge],
            cwd=self.folder,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        arguments = ["--nthreads", "1", "--name", name, "--no-nanny"]
        self.start(name, "worker", f"tcp://{NETWORK}.2:8786", *arguments)
        log = self.folder / name / "log"
        until(lambda: "Starting established connection" in log.read_text())

    def close(self):
        for process in self.processes.values():
            process.kill()
            process.wait()
        for name in self.names:
            ip("netns", "delete", self.space(name))
        ip("link", "delete", self.bridge)


@pytest.fixture
def hosts(tmp_path_factory):
    result = Hosts(tmp_path_factory.mktemp("hosts"))
    yield result
    result.close()


def waiting(mark):
    """The process ids of the tests that wait, by the host that their address is of."""
    return {path.name: int(path.read_text()) for path in mark.iterdir() if path.read_text()}


def test_one_is_cut_off_one_is_killed_and_one_is_added(hosts, folder):
    mark, go_on = hosts.folder / "marks", hosts.folder / "go-on"
    mark.mkdir()
    address = hosts.scheduler()
    hosts.machine("quay-1")
    hosts.machine("quay-2")
    env = '[env.harbour]\nready = { http = "http://127.0.0.1:8099/", within = "60s" }\n'
    folder.file("wolfbane.toml", suite("q", "python", "tests") + env)
    for number in range(6):
        folder.file(
            f"tests/test_{number}.py",
            f"""
            import os, pathlib, subprocess, time
            def test_waits():
                shown = subprocess.run(["ip", "-4", "-o", "addr", "show", "eth0"],
                                       capture_output=True, text=True).stdout
                host = shown.split()[3].partition("/")[0]
                mark = pathlib.Path({str(mark)!r}, host)
                if {number} < 2 and not mark.exists():
                    mark.write_text(str(os.getpid()))
                    while not pathlib.Path({str(go_on)!r}).exists():
                        time.sleep(0.05)
        """,
        )
    command = folder.command(
        "run", "--env", "harbour", "--on", address, "--report", "json=out.json"
    )
    run = subprocess.Popen(
        command, cwd=folder.path, env=folder.environment(), stdout=subprocess.PIPE
    )
    until(lambda: set(waiting(mark)) == {f"{NETWORK}.3", f"{NETWORK}.4"}, run)
    first = waiting(mark)[f"{NETWORK}.3"]
    hosts.machine("quay-3")
    hosts.cut_off("quay-1")
    hosts.processes["quay-2"].kill()
    until(lambda: f"{NETWORK}.5" in waiting(mark), run)
    go_on.touch()
    output = run.communicate(timeout=120)[0].decode()
    results = json.loads((folder.path / "out.json").read_text())["results"]
    assert {each["outcome"] for each in results} == {"passed"}, output
    assert len(results) == 6
    assert run.returncode == 0
    assert {each["machine"] for each in results if each["earlier"]} == {"quay-3"}
    lost = sorted(e["message"] for each in results for e in each["earlier"])
    assert lost == [
        "lost the connection to machine quay-1",
        "lost the connection to machine quay-2",
    ]
    # The one that was cut off ends what it runs by itself.
    until(lambda: not psutil.pid_exists(first))
