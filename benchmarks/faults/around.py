"""Faults around a run: its own process, its files, its services, and other runs beside it."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from benchmarks.faults.scene import Scene

WOLFBANE = (sys.executable, "-m", "wolfbane")


@dataclass
class Ended:
    """How a run ended. ``cut``: it was ended from outside, so that it may be incomplete."""

    code: int
    out: str
    cut: bool = False
    reports: bool = True
    refused: bool = False


def run(
    scene: Scene,
    temporary: Path,
    *more: str,
    interfere: Interfere | None = None,
    formats: Sequence[str] = (),
) -> Ended:
    """Run the workspace, to its end or until something interferes."""
    reports = [f"--report={form}=out.{form}" for form in formats]
    with (scene.folder / "printed.txt").open("wb") as printed:
        process = subprocess.Popen(
            [*WOLFBANE, "run", *scene.arguments, *reports, *more],
            cwd=scene.folder,
            stdout=printed,
            stderr=subprocess.STDOUT,
            stdin=subprocess.DEVNULL,
            env=variables(scene, temporary),
            start_new_session=True,
        )
        try:
            cut = interfere(process, scene.rng) if interfere else False
            code = process.wait(scene.limit)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
            raise AssertionError(f"the run did not end within {scene.limit:g} s") from None
    return Ended(code, (scene.folder / "printed.txt").read_text(errors="replace"), cut)


def variables(scene: Scene, temporary: Path) -> dict[str, str]:
    """The environment of a run."""
    return {**os.environ, "TMPDIR": str(temporary), "NO_COLOR": "1", **scene.variables}


Interfere = Callable[["subprocess.Popen[bytes]", random.Random], bool]


def _signal(number: int) -> Interfere:
    def send(process: subprocess.Popen[bytes], rng: random.Random) -> bool:
        time.sleep(rng.uniform(0.02, 1.2))
        process.send_signal(number)
        return True

    return send


def _stopped(process: subprocess.Popen[bytes], rng: random.Random) -> bool:
    time.sleep(rng.uniform(0.1, 0.8))
    process.send_signal(signal.SIGSTOP)
    time.sleep(rng.uniform(0.1, 0.6))
    process.send_signal(signal.SIGCONT)
    return False


def _twice(process: subprocess.Popen[bytes], rng: random.Random) -> bool:
    time.sleep(rng.uniform(0.1, 0.8))
    process.send_signal(signal.SIGINT)
    time.sleep(rng.uniform(0.0, 0.1))
    process.send_signal(signal.SIGINT)
    return True


INTERFERING: dict[str, Interfere] = {
    "wolfbane is killed": _signal(signal.SIGKILL),
    "wolfbane is interrupted": _signal(signal.SIGINT),
    "wolfbane is terminated": _signal(signal.SIGTERM),
    "its terminal is closed": _signal(signal.SIGHUP),
    "wolfbane is stopped for a while": _stopped,
    "wolfbane is interrupted twice": _twice,
}


def _damaged(scene: Scene) -> None:
    """Cut, overwrite or take away a file that Wolfbane keeps."""
    kept = [path for path in (scene.folder / ".wolfbane").rglob("*") if path.is_file()]
    for folder in scene.rng.sample(kept, min(len(kept), scene.rng.randint(1, 4))):
        how = scene.rng.choice(("cut", "noise", "empty", "gone", "folder"))
        if how == "cut":
            folder.write_bytes(folder.read_bytes()[: scene.rng.randint(0, folder.stat().st_size)])
        elif how == "noise":
            folder.write_bytes(scene.rng.randbytes(200))
        elif how == "empty":
            folder.write_bytes(b"")
        else:
            folder.unlink()
        if how == "folder":
            folder.mkdir()


def _clock(scene: Scene) -> None:
    """Everything is from a time that has not come yet: the clock was set back."""
    later = time.time() + scene.rng.choice((3600, 86400 * 400))
    for folder in scene.folder.rglob("*"):
        os.utime(folder, (later, later))
    runs = scene.folder / ".wolfbane" / "runs"
    for folder in sorted(runs.iterdir()) if runs.is_dir() else ():
        folder.rename(runs / folder.name.replace("2026", "2031", 1))


def _no_caches(scene: Scene) -> None:
    shutil.rmtree(scene.folder / ".wolfbane")


BEFORE: dict[str, Callable[[Scene], None]] = {
    "kept files are damaged": _damaged,
    "the clock was set back": _clock,
    "kept files are gone": _no_caches,
}
SERVICES = {
    "a service dies": ("import sys, time\nserve(0.3)\nsys.exit(3)", ("passed", "blocked")),
    "a service ignores SIGTERM": (
        "import signal\nsignal.signal(signal.SIGTERM, signal.SIG_IGN)\nserve()",
        ("passed",),
    ),
    "a service forks": (
        "import os\nif os.fork():\n    os._exit(0)\nos.setsid()\nserve()",
        ("passed", "blocked"),
    ),
    "a service never answers": ("import time\ntime.sleep(600)", ("blocked",)),
    "a service leaves a child": (
        "import subprocess\nsubprocess.Popen(['sleep', '600'], start_new_session=True)\nserve()",
        ("passed",),
    ),
}
_SERVE = """
import http.server, sys, threading, time

def serve(seconds=None):
    handler = http.server.SimpleHTTPRequestHandler
    server = http.server.HTTPServer(("127.0.0.1", int(sys.argv[1])), handler)
    if seconds:
        threading.Timer(seconds, server.shutdown).start()
    server.serve_forever()

"""


def with_service(scene: Scene, name: str) -> None:
    """A suite that needs a service with a fault."""
    text, outcomes = SERVICES[name]
    scene.file("service.py", _SERVE + text + "\n")
    within = "60s" if outcomes == ("passed",) else "2s"  # a busy machine starts it slowly
    scene.settings += (
        '\n[service.quay]\ncommand = ["python3", "service.py", "{port}"]\n'
        f'ready = {{ http = "http://127.0.0.1:{{port}}/", within = "{within}" }}\n'
    )
    scene.suite("served", "python", 'needs = ["quay"]\n')
    scene.file("served/test_s.py", "def test_served():\n    pass\n")
    scene.expect("served/test_s.py#test_served", *outcomes, own=True)
