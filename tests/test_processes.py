"""No process survives its run, whatever it does to its environment, group or session."""

from __future__ import annotations

import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psutil
import pytest

from bridged import write_ledger

STARTS = {
    "plain": "",
    "without an environment": "env={}",
    "in a session of its own": "start_new_session=True",
    "without either": "env={}, start_new_session=True",
}
CHILD = """
    import subprocess, sys, unittest
    def start():
        subprocess.Popen([sys.executable, "-c", "import time; time.sleep(600)", {mark!r}], {how})
    class Quay(unittest.TestCase):
        def test_starts(self):
            {start}
        def test_ends(self):
            {end}
"""
PARENT = """
import subprocess, sys
subprocess.Popen([sys.executable, "-c", "import time; time.sleep(600)", sys.argv[1]],
                 env={}, start_new_session=True)
"""


def alive(mark: str) -> list[str]:
    matches = []
    for process in psutil.process_iter():
        try:
            if mark in process.cmdline() and process.status() != psutil.STATUS_ZOMBIE:
                matches.append(" ".join(process.cmdline()))
        except psutil.Error:
            continue
    return matches


@pytest.mark.parametrize("end", ["pass", "import os; os._exit(3)"])
@pytest.mark.parametrize("how", [*STARTS, "left by its parent"])
def test_what_a_test_starts_is_gone_after_the_run(folder, how, end):
    mark = f"mark-of-{folder.path}"
    start = "start()"
    if how not in STARTS:
        folder.file("parent.py", PARENT)
        start = f"subprocess.run([sys.executable, 'parent.py', {mark!r}], env={{}})"
    source = CHILD.format(mark=mark, how=STARTS.get(how, ""), start=start, end=end)
    folder.file("test_a.py", source)
    folder.run()
    assert alive(mark) == []


def until(condition, seconds: float = 30) -> None:
    limit = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < limit, "it did not come to that"
        psutil.cpu_percent(0.02)


def test_killed_outright_what_a_test_started_without_an_environment_is_gone(folder):
    mark = f"mark-of-{folder.path}"
    folder.file(
        "test_a.py",
        CHILD.format(
            mark=mark, how="env={}", start="start(); import time; time.sleep(600)", end="pass"
        ),
    )
    process = subprocess.Popen(folder.command("run"), cwd=folder.path, env=folder.environment())
    until(lambda: alive(mark))
    process.kill()
    process.wait()
    until(lambda: not alive(mark))


@pytest.mark.skipif(sys.platform != "linux", reason="it looks into /proc")
def test_killed_outright_a_launch_leaves_no_folder(folder, tmp_path_factory):
    target = tmp_path_factory.mktemp("scratch")
    write_ledger(folder)
    body = f"open({str(target / 'began')!r}, 'w')\nimport time\ntime.sleep(600)\n"
    (folder.path / "launcher.py").write_text(body)
    environment = {**folder.environment(), "TMPDIR": str(target)}
    process = subprocess.Popen(folder.command("run"), cwd=folder.path, env=environment)
    until((target / "began").exists)
    assert [path.name for path in target.glob("wolfbane-run-*/launch-*")]
    process.send_signal(signal.SIGKILL)
    process.wait()
    until(lambda: [path.name for path in target.iterdir()] == ["began"])


def test_a_test_that_empties_the_scratch_folder_costs_no_other(folder):
    folder.file(
        "test_a.py",
        """
        import glob, os, shutil, tempfile
        def test_1_empties():
            for place in glob.glob(os.path.join(tempfile.gettempdir(), "wolfbane-run-*")):
                shutil.rmtree(place)
        def test_2_ends(): os._exit(3)
        def test_3_after(): print("printed")
        """,
    )
    folder.file("test_b.py", "def test_b(): pass\n")
    with tempfile.TemporaryDirectory() as path:
        run = folder.run("-j", "1", TMPDIR=path)
        assert list(Path(path).iterdir()) == []
    assert sorted(run.outcomes.values()) == ["crashed", "passed", "passed", "passed"], run.out
