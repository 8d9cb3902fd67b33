"""Other users of the machine reach neither the browsers of a run nor its results."""

from __future__ import annotations

import json
import os
import stat
import subprocess

import pytest

from browser_suites import ENGINES, needs, pages, suite
from conftest import present

__all__ = ["pages", "suite"]  # fixtures

OTHER = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"]
as_another_user = pytest.mark.skipif(
    os.geteuid() != 0 or not present("setpriv"), reason="becomes another user"
)
LOOK = """
import json, sys, urllib.error, urllib.request

def answer(port, path, body=None):
    try:
        request = urllib.request.Request(f"http://127.0.0.1:{port}{path}", body)
        return urllib.request.urlopen(request, timeout=5).read().decode("latin-1")
    except urllib.error.HTTPError as error:
        return f"{error.code}"
    except OSError as error:
        return type(error).__name__

wanted = b'{"capabilities": {}}'
print(json.dumps([
    [port, answer(port, "/json/version"), answer(port, "/json/list"),
     answer(port, "/session", wanted)]
    for port in map(int, sys.argv[1:])
]))
"""


@as_another_user
@pytest.mark.parametrize("bidi", [False, True])
@pytest.mark.parametrize("engine", [pytest.param(e, marks=needs(e)) for e in ENGINES])
def test_another_user_cannot_drive_a_browser(suite, engine, bidi):
    folder = suite(
        f"""
def test_listeners(self):
    import psutil, subprocess
    browser = Browser(**{{"webSocketUrl": True}} if {bidi} and {engine!r} != "webkit" else {{}})
    browser.open("quay")
    run = psutil.Process().parent()
    inside = [run, *run.children(recursive=True)]
    ports, screens = set(), set()
    for each in inside:
        try:
            ports |= {{c.laddr.port for c in each.net_connections("inet") if c.status == "LISTEN"}}
            screens |= {{c.laddr for c in each.net_connections("unix") if "X11-unix" in c.laddr}}
        except psutil.Error:
            pass
    looked = subprocess.run({[*OTHER, "python3", "-c", LOOK]!r} + [str(p) for p in ports],
                            capture_output=True, text=True, check=True)
    shown = [subprocess.run({[*OTHER, "xdpyinfo", "-display"]!r} + [":" + s.rpartition("X")[2]],
                            capture_output=True, text=True, check=False).returncode
             for s in screens]
    with open("found.json", "w") as file:
        json.dump({{"ports": json.loads(looked.stdout), "screens": shown}}, file)
""",
        browsers=(engine,),
    )
    run = folder.run()
    assert set(run.outcomes.values()) == {"passed"}, run.out
    result = json.loads((folder.path / "found.json").read_text())
    assert result["ports"]
    for port, *answers in result["ports"]:
        for answer in answers:
            assert "webSocketDebuggerUrl" not in answer, port
            assert "sessionId" not in answer, port
    assert 0 not in result["screens"]
    assert bool(result["screens"]) == (engine == "webkit")


@pytest.mark.parametrize("command", [["list"], ["run"], ["history"], ["explain", "test_high"]])
def test_only_its_owner_enters_the_results(folder, command):
    folder.file("test_tides.py", "def test_high(): print('all that a test prints')\n")
    folder.git("init", "-q")
    folder.call(*command)
    results = folder.path / ".wolfbane"
    assert stat.S_IMODE(results.stat().st_mode) == 0o700
    assert ".wolfbane" not in folder.git("status", "--short", "--untracked-files")
    results.chmod(0o750)
    folder.call("run")
    assert stat.S_IMODE(results.stat().st_mode) == 0o750, "the mode that its owner chose stays"


@as_another_user
def test_another_user_reads_nothing_that_a_test_prints(folder, tmp_path_factory):
    scratch = tmp_path_factory.mktemp("scratch")
    for path in (scratch, *scratch.parents, folder.path, *folder.path.parents):
        if path != path.parent:
            path.chmod(path.stat().st_mode | 0o055)
    folder.file(
        "test_tides.py",
        f"""
        import subprocess, sys, unittest
        class Tides(unittest.TestCase):
            def test_high(self):
                print("all that a test prints", flush=True)
                found = subprocess.run(
                    {[*OTHER, "find", str(scratch), str(folder.path), "-readable", "-type", "f"]!r},
                    capture_output=True, text=True,
                )
                self.assertIn("test_tides.py", found.stdout)
                self.assertEqual(len(found.stdout.splitlines()), 1, found.stdout)
        """,
    )
    command = folder.command("run", "--jobs", "1")
    done = subprocess.run(
        ["sh", "-c", 'umask 000; exec "$@"', "-", *command],
        cwd=folder.path,
        check=False,
        env={**folder.environment(), "TMPDIR": str(scratch), "PYTHONDONTWRITEBYTECODE": "1"},
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stdout + done.stderr
