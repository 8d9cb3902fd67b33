"""Faults outside of a run: who reads it, where it writes, names, documents, runs beside it."""

from __future__ import annotations

import resource
import subprocess
from collections.abc import Callable
from pathlib import Path

from benchmarks.faults.around import WOLFBANE, Ended, run, variables
from benchmarks.faults.scene import Scene

_SMALL = 30_000
_NAMES = (
    "a\\nb",
    "\\u001b[31mred",
    "\\u0000nul",
    "x".ljust(300, "y"),
    "ok 1 - # SKIP",
    "<![CDATA[",
    "]]>",
    "\\ud800",
    "\\u2028\\u202e",
    "a / b",
    "a @firefox",
    "#hash",
    "'quote\\\"",
    "*[x]?",
    " ",
    "..",
    "-x",
)


def _unread(scene: Scene, temporary: Path) -> Ended:
    """Whoever reads its output has gone away."""
    process = subprocess.Popen(
        [*WOLFBANE, "run", *scene.arguments],
        cwd=scene.folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        stdin=subprocess.DEVNULL,
        env=variables(scene, temporary),
    )
    assert process.stdout
    process.stdout.read(scene.rng.randint(0, 400))
    process.stdout.close()
    assert process.stderr
    errors = process.stderr.read().decode()
    return Ended(process.wait(scene.limit), errors, reports=False)


def _full_output(scene: Scene, temporary: Path) -> Ended:
    with Path("/dev/full").open("wb") as full:
        done = subprocess.run(
            [*WOLFBANE, "run", *scene.arguments],
            cwd=scene.folder,
            stdout=full,
            stderr=subprocess.PIPE,
            env=variables(scene, temporary),
            check=False,
            timeout=scene.limit,
        )
    return Ended(done.returncode, done.stderr.decode(), reports=False)


def _small_files(scene: Scene, temporary: Path) -> Ended:
    """No file may grow beyond some bytes, as on a disk that is nearly full."""
    limit = scene.rng.choice((0, 500, 4_000, _SMALL))
    done = subprocess.run(
        [*WOLFBANE, "run", *scene.arguments, "--report=xunit=out.xunit"],
        cwd=scene.folder,
        capture_output=True,
        env=variables(scene, temporary),
        check=False,
        timeout=scene.limit,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit)),
    )
    out = (done.stdout + done.stderr).decode(errors="replace")
    if "Traceback" in out and "wolfbane/cli" in out:
        raise AssertionError(f"a traceback was printed: {out[-600:]}")
    if done.returncode == 0 and limit < 500:
        raise AssertionError("exit code 0, though nothing could be written")
    for journal in scene.folder.glob(".wolfbane/runs/*/journal.jsonl"):
        journal.unlink()  # what it holds is cut anywhere
    # The interpreter leaves halves of compiled files, and reads them (mended in Python 3.13.1).
    for compiled in scene.folder.rglob("*.pyc"):
        compiled.unlink()
    return Ended(130, out, cut=True, reports=False)


def _several(scene: Scene, temporary: Path) -> Ended:
    """Two to five runs in one workspace at once: each must be right."""
    started = [
        subprocess.Popen(
            [*WOLFBANE, "run", *scene.arguments],
            cwd=scene.folder,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            stdin=subprocess.DEVNULL,
            env=variables(scene, temporary),
        )
        for _ in range(scene.rng.randint(2, 5))
    ]
    ended = []
    for process in started:
        out, _ = process.communicate(timeout=scene.limit)
        ended.append(Ended(process.returncode, out.decode(errors="replace"), reports=False))
    codes = {each.code for each in ended}
    if len(codes) > 1:
        raise AssertionError(f"runs beside each other ended with {codes}")
    runs = len(list(scene.folder.glob(".wolfbane/runs/*/summary.json")))
    if runs != len(ended):
        raise AssertionError(f"{runs} records of {len(ended)} runs")
    return ended[0]


def _names(scene: Scene, temporary: Path) -> Ended:
    """Tests and files that are called what breaks formats."""
    scene.more = True
    lines = ["import unittest", "class Named(unittest.TestCase):", "    pass"]
    for name in scene.rng.sample(_NAMES, 4):
        lines.append(f'setattr(Named, "test{name}", lambda self: None)')
    scene.file("tides/test_named.py", "\n".join(lines) + "\n")
    for name in scene.rng.sample(["test_a b.py", "test_é.py", "test_'q'.py", "test_[x].py"], 2):
        scene.file(f"tides/{name}", "def test_here():\n    pass\n")
        scene.expect(f"tides/{name}#test_here", "passed")
    return run(scene, temporary, formats=scene.formats)


def _sources(scene: Scene, temporary: Path) -> Ended:
    """A source that cannot be read is an error of its file."""
    text = scene.rng.choice(
        (
            "def test(:\n",
            "import nowhere_at_all\n",
            "raise SystemExit(0)\n",
            "\0",
            "x = (" * 500,
            b"# -*- coding: none -*-\n",
            b"\xff\xfe\xfd",
            "import os; os._exit(0)\n",
            "import time; time.sleep(600)\n",
            "import os; os.kill(os.getpid(), 9)\n",
            "exec('while True: print(\"x\" * 9999)')\n",
        )
    )
    scene.file(
        "tides/test_source.py",
        b"def test_x(): pass\n" + (text if isinstance(text, bytes) else text.encode()),
    )
    for address in ("tides/test_source.py", "tides/test_source.py#test_x"):
        scene.own.add(address)
    scene.more = True
    return run(scene, temporary, formats=scene.formats)


def _settings(scene: Scene, temporary: Path) -> Ended:
    """Settings with an error are refused, and nothing is run."""
    broken = scene.rng.choice(
        (
            "broken = [",
            "[[suite]]\nname = 3\n",
            '[[suite]]\nname = "x"\nkind = "pithon"\npaths = ["x"]\n',
            "[unknown]\nx = 1\n",
            '[[suite]]\nname = "tides"\nkind = "python"\npaths = ["tides"]\n',
        )
    )
    kept = scene.settings
    scene.settings += f"\n{broken}\n"
    scene.write()
    ended = run(scene, temporary)
    ended.refused = True
    if "wolfbane.toml" not in ended.out:
        raise AssertionError(f"the error does not name the file: {ended.out}")
    if list(scene.folder.glob(".wolfbane/runs/*")):
        raise AssertionError("something was run")
    scene.settings = kept
    scene.write()
    return ended


DRAWS: dict[str, Callable[[Scene, Path], Ended]] = {
    "nobody reads its output": _unread,
    "its output is full": _full_output,
    "its disk is full": _small_files,
    "several runs at once": _several,
    "names are hostile": _names,
    "a source is hostile": _sources,
    "settings are wrong": _settings,
}
