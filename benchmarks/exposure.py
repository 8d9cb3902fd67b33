"""Lists what another user of the machine can reach and read while Wolfbane works.

    python -m benchmarks.exposure      as root, because it becomes another user (setpriv)

It runs a suite in three browsers with a service, a load test, and a run on a cluster. Meanwhile,
another user connects to each listening socket, and looks for readable files. The output is the
table in docs/security.md.
"""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import psutil

OTHER = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"]
PATIENCE = 120.0
ENGINES = ("chromium", "firefox", "webkit")
SETTINGS = f"""
[workspace]
jobs = 3
[[suite]]
name = "pages"
kind = "python"
paths = ["pages"]
browsers = {list(ENGINES)}
needs = ["quay"]
[[suite]]
name = "flows"
kind = "workflow"
paths = ["flows"]
needs = ["quay"]
[[suite]]
name = "tides"
kind = "python"
paths = ["tides"]
[param.port_of_quay]
default = "{{quay.port}}"
[service.quay]
command = ["{sys.executable}", "-m", "http.server", "--bind", "127.0.0.1", "{{port}}"]
ready = {{ http = "http://127.0.0.1:{{port}}/", within = "60s" }}
"""
HOLD = """
import json, os, pathlib, time, unittest, urllib.request

HERE = pathlib.Path("{folder}")

def hold(name):
    (HERE / name).touch()
    while not (HERE / "go").exists():
        time.sleep(0.05)
"""
PAGES = """
class Quay(unittest.TestCase):
    def test_holds(self):
        root = os.environ["WEBDRIVER_URL"]
        body = json.dumps({"capabilities": {"alwaysMatch": {}}}).encode()
        urllib.request.urlopen(f"{root}/session", body).read()
        hold("held-" + str(os.getpid()))
"""
TIDES = """
class Tides(unittest.TestCase):
    def test_holds(self):
        hold("held-1")
"""
API = """openapi: 3.1.0
info: {title: Quay, version: "1"}
paths: {/: {get: {operationId: look, responses: {"200": {description: fine}}}}}
"""
FLOWS = """arazzo: 1.0.1
info: {title: Quay, version: "1"}
sourceDescriptions: [{name: quay, url: quay.yaml, type: openapi}]
workflows: [{workflowId: looks, steps: [{stepId: look, operationId: look}]}]
"""
ASK = """
import socket, sys
family, place = sys.argv[1:]
kind = socket.AF_INET if family == "inet" else socket.AF_UNIX
with socket.socket(kind) as asked:
    asked.settimeout(3)
    try:
        if family == "inet":
            asked.connect(("127.0.0.1", int(place)))
            asked.sendall(b"GET /session HTTP/1.1\\r\\nHost: 127.0.0.1:%d\\r\\n\\r\\n" % int(place))
        else:
            asked.connect(chr(0) + place[1:] if place[0] == "@" else place)
        answer = asked.recv(200).decode("latin-1")
        if answer.startswith("HTTP"):
            print(answer.splitlines()[0])
        else:
            print("a greeting in its own protocol" if answer else "connected, then closed")
    except TimeoutError:
        print("connected, no answer")
    except OSError as error:
        print(error.strerror or type(error).__name__)
"""


def as_another_user(*command: str) -> str:
    done = subprocess.run([*OTHER, *command], capture_output=True, text=True, check=False)
    return done.stdout.strip() or done.stderr.strip().rpartition("\n")[2]


def until(reached: Callable[[], bool], process: subprocess.Popen[bytes]) -> None:
    """Wait. Raises RuntimeError if the process ends, or nothing happens."""
    end = time.monotonic() + PATIENCE
    while not reached():
        if process.poll() is not None or time.monotonic() > end:
            raise RuntimeError(f"{process.args} does not get that far")
        time.sleep(0.1)


def sockets(process: psutil.Process) -> Iterator[tuple[str, str, str]]:
    """Program, family and place of every listening socket of a process and its children."""
    seen = set()
    for each in [process, *process.children(recursive=True)]:
        try:
            name = Path(each.exe()).name
            if "wolfbane" in " ".join(each.cmdline()[:6]) and name.startswith("python"):
                name = "Wolfbane"
            result = [
                ("inet", str(c.laddr.port))
                for c in each.net_connections("tcp")
                if c.status == psutil.CONN_LISTEN
            ]
            result += [
                ("unix", str(c.laddr))
                for c in each.net_connections("unix")
                if c.laddr and _listens(str(c.laddr))
            ]
        except psutil.Error:
            continue
        for family, folder in result:
            if (family, folder) not in seen:
                seen.add((family, folder))
                yield name, family, folder


def _listens(path: str) -> bool:
    """Whether a socket in the file system or an abstract one listens (flag in /proc)."""
    lines = Path("/proc/net/unix").read_text(errors="replace").splitlines()
    return any(line.split()[3] == "00010000" and line.endswith(path) for line in lines[1:])


def rows(part: str, process: psutil.Process) -> Iterator[tuple[str, ...]]:
    """A row for each socket, with the answer that another user gets."""
    for program, family, listener in sorted(sockets(process)):
        answer = as_another_user(sys.executable, "-S", "-c", ASK, family, listener)
        shown = "a port of 127.0.0.1" if family == "inet" else "a local socket"
        yield part, program, shown, answer


def readable(*folders: Path) -> Iterator[tuple[str, str, str]]:
    """Each folder with its mode, and the number of files in it that another user can read."""
    for folder in folders:
        result = as_another_user("find", str(folder), "-type", "f", "-readable")
        count = sum(line.startswith("/") for line in result.splitlines())
        yield folder.name, f"{folder.stat().st_mode & 0o777:o}", str(count)


def workspace(folder: Path) -> None:
    """The suites."""
    hold = HOLD.replace("{folder}", str(folder))  # a machine of a cluster has a copy
    files = {
        "wolfbane.toml": SETTINGS,
        "pages/test_quay.py": hold + PAGES,
        "tides/test_tides.py": hold + TIDES,
        "flows/quay.yaml": API,
        "flows/looks.arazzo.yaml": FLOWS,
    }
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    folder.chmod(0o755)  # the sources are not secret here


def held(folder: Path) -> int:
    return len(list(folder.glob("held-*")))


def start(folder: Path, *arguments: str, **variables: str) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", "wolfbane", *arguments]
    return subprocess.Popen(
        command,
        cwd=folder,
        env={**os.environ, **variables},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


def look(folder: Path, scratch: Path) -> Iterator[tuple[str, ...]]:
    """All rows. The last of each part tells about files."""
    run = start(folder, "run", "--suite", "pages", TMPDIR=str(scratch))
    until(lambda: held(folder) == len(ENGINES), run)
    yield from rows("run", psutil.Process(run.pid))
    for name, mode, count in readable(*scratch.iterdir(), folder / ".wolfbane"):
        start_of_name = name.rpartition("-")[0] or name
        yield "run", "files", f"{start_of_name} (mode {mode})", f"{count} files readable"
    (folder / "go").touch()
    run.wait()
    load = start(folder, "load", "--suite", "flows", "--users", "5", "--for", "10s")
    until(lambda: len(list(psutil.Process(load.pid).children(recursive=True))) > 1, load)
    time.sleep(3)
    yield from rows("load", psutil.Process(load.pid))
    load.wait()
    for mark in [*folder.glob("held-*"), folder / "go"]:
        mark.unlink()
    yield from cluster(folder)


def cluster(folder: Path) -> Iterator[tuple[str, ...]]:
    """A run on a scheduler and a worker of this machine."""
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port = probe.getsockname()[1]
    dask = str(Path(sys.executable).parent / "dask")
    address = f"tcp://127.0.0.1:{port}"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": folder}
    local = ["--host", "tcp://127.0.0.1", "--no-dashboard"]
    scheduler = subprocess.Popen([dask, "scheduler", *local, "--port", str(port)], **quiet)
    worker = subprocess.Popen(
        [dask, "worker", address, *local, "--nthreads", "1", "--no-nanny"], **quiet
    )
    run = start(folder, "run", "--suite", "tides", "--on", address)
    try:
        until(lambda: held(folder) == 1, run)
        yield from rows("run on a cluster", psutil.Process(run.pid))
        yield from rows("cluster (started by you)", psutil.Process(scheduler.pid))
        yield from rows("cluster (started by you)", psutil.Process(worker.pid))
    finally:
        (folder / "go").touch()
        run.wait()
        for process in (worker, scheduler):
            process.kill()


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="exposure-") as path:
        Path(path).chmod(0o755)
        folder, scratch = Path(path, "quay"), Path(path, "tmp")
        for each in (folder, scratch):
            each.mkdir(mode=0o755)
        workspace(folder)
        print("| during | program | what | another user gets |\n|---|---|---|---|")
        for row in look(folder, scratch):
            print(f"| {' | '.join(row)} |")


if __name__ == "__main__":
    main()
