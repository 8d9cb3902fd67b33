"""What one test does to its process costs that test alone; and nothing is left behind."""

from __future__ import annotations

import json
import os
import shlex
import signal
import subprocess
import time

import psutil
import pytest

from conftest import SUPPORTED

BEFORE_AND_AFTER = """
import ctypes, os, signal, subprocess, sys, threading, time, unittest

class A(unittest.TestCase):
    def test_1_before(self):
        pass

    def test_2_trouble(self):
        {trouble}

    def test_3_after(self):
        import sys as found
        print("still here", found.warnoptions)
        time.sleep(0.02)

class B(unittest.TestCase):
    def test_other_class(self):
        pass
"""
NAME = "test_t.py#A / test_2_trouble"

TROUBLES = {
    "segfault": ("ctypes.string_at(0)", "crashed", "SIGSEGV"),
    "exit": ("print('last words'); os._exit(0)", "crashed", "exit code 0"),
    "sys-exit": ("sys.exit(0)", "errored", "SystemExit"),
    "killed": ("os.kill(os.getpid(), signal.SIGKILL)", "crashed", "SIGKILL"),
    "group-killed": ("os.killpg(0, signal.SIGKILL)", "crashed", "SIGKILL"),
    "interrupt": ("raise KeyboardInterrupt", "errored", "KeyboardInterrupt"),
    "hang": ("time.sleep(600)", "timed out", "longer than 3 s"),
    "deaf-hang": (
        "signal.signal(signal.SIGABRT, signal.SIG_IGN); time.sleep(600)",
        "timed out",
        "longer than 3 s",
    ),
    "flood": (
        "exec('while True: print(\"tide \" * 10000)')",
        "errored",
        "printed more than 100 MiB",
    ),
    "nonsense-on-the-channel": (
        "os.write(200, b'tide\\n')",
        "errored",
        "sent an invalid message: tide",
    ),
    "closed-descriptors": ("os.closerange(0, 4096)", "passed", ""),
    "closed-all-others": ("os.closerange(3, 4096)", "passed", ""),
    "modules-emptied": ("sys.modules.clear()", "passed", ""),
    "builtin-that-cannot-be-compared": (
        "import builtins\n"
        "        builtins.copyright = type('A', (), {'__eq__': lambda *a: 1 / 0})()",
        "passed",
        "",
    ),
    "builtin-replaced": (
        "import builtins; builtins.print = None; time.sleep = None",
        "passed",
        "",
    ),
    "timer-left": (
        "signal.setitimer(signal.ITIMER_REAL, 0.01, 0.01); "
        "signal.signal(signal.SIGALRM, signal.SIG_IGN)",
        "passed",
        "",
    ),
    "ends-for-another": (
        'os.write(200, b\'{"type":"ran","file":"x.py"}\\n\'); time.sleep(9)',
        "errored",
        "x.py, which was not requested",
    ),
    "closed-output": ("os.close(1); os.close(2); open(os.devnull); open(os.devnull)", "passed", ""),
    "forked-child-comes-back": ("os.fork() or time.sleep(0.05)", "passed", ""),
    "forked-child-stays": ("os.fork() or time.sleep(600)", "passed", ""),
    "child-left": ("subprocess.Popen(['sleep', '600'])", "passed", ""),
    "child-escapes": ("subprocess.Popen(['sleep', '600'], start_new_session=True)", "passed", ""),
    "thread-left": ("threading.Thread(target=time.sleep, args=(600,)).start()", "passed", ""),
    "stdout-replaced": ("sys.stdout = sys.stderr = None", "passed", ""),
}


def test_one_test_pays_alone(folder):
    expected = {}
    for name, (trouble, outcome, _) in TROUBLES.items():
        suite = "hangs" if "hang" in name else "others"
        path = f"{suite}/test_{name.replace('-', '_')}.py"
        folder.file(path, BEFORE_AND_AFTER.format(trouble=trouble))
        expected |= {
            f"{path}#A / test_1_before": "passed",
            f"{path}#A / test_2_trouble": outcome,
            f"{path}#A / test_3_after": "passed",
            f"{path}#B / test_other_class": "passed",
        }
    folder.file(
        "wolfbane.toml",
        "".join(
            f'[[suite]]\nname = "{name}"\nkind = "python"\npaths = ["{name}"]\n'
            f'timeout = "{limit}"\n'
            for name, limit in (("hangs", "3s"), ("others", "60s"))
        ),
    )
    run = folder.run("--jobs", "2", WOLFBANE_TEST_MARK=str(folder.path))
    assert run.outcomes == expected, run.out + run.err
    for name, (_, _, message) in TROUBLES.items():
        end = f"/test_{name.replace('-', '_')}.py#A / test_2_trouble"
        [result] = [each for address, each in run.results.items() if address.endswith(end)]
        assert message in result["message"], name
    assert run.code == 1
    assert folder.processes() == []


def test_last_words_of_a_crash_are_kept(folder):
    folder.file("test_t.py", BEFORE_AND_AFTER.format(trouble=TROUBLES["exit"][0]))
    assert "last words" in folder.run().results[NAME]["output"]


def test_a_hang_says_where_it_hung(folder):
    folder.file("test_t.py", BEFORE_AND_AFTER.format(trouble=TROUBLES["hang"][0]))
    assert "in test_2_trouble" in folder.run("--timeout", "2s").results[NAME]["output"]


@pytest.mark.parametrize(
    ("path", "outcomes"),
    [
        ("import os; os._exit(3)", {"test_bad.py": "crashed"}),
        ("raise RuntimeError('no tide table')", {"test_bad.py": "errored"}),
        ("import time; time.sleep(600)", {"test_bad.py": "timed out"}),
        ("def broken(:", {"test_bad.py": "errored"}),
        ("import unittest; raise unittest.SkipTest('winter')", {"test_bad.py": "skipped"}),
    ],
)
def test_a_file_that_cannot_be_loaded(folder, path, outcomes):
    folder.file("test_bad.py", f"{path}\nclass T(unittest.TestCase):\n    def test(self): pass\n")
    folder.write(test_good_py="def test_one():\n    pass\n")
    run = folder.run("--timeout", "3s")
    assert run.outcomes == {**outcomes, "test_good.py#test_one": "passed"}


ENDLESS = """
import subprocess, time, unittest

class T(unittest.TestCase):
    def test_1_quick(self):
        pass

    def test_2_slow(self):
        subprocess.Popen(["sleep", "601"], start_new_session=True)
        time.sleep(600)
"""


def start_endless(folder):
    """A run that has finished one test and sits in the next, with an escaped grandchild."""
    folder.file("test_t.py", ENDLESS)
    process = start(folder)
    wait_until(lambda: any("sleep 601" in line for line in folder.processes()))
    wait_until(lambda: any("result" in event for event in journal(folder)))
    return process


def start(folder):
    return subprocess.Popen(
        folder.command("run", "-j", "1"),
        cwd=folder.path,
        env={**folder.environment(), "WOLFBANE_TEST_MARK": str(folder.path)},
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        start_new_session=True,
    )


def wait_until(condition, seconds=30):
    limit = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < limit, "it did not come to that"
        psutil.cpu_percent(0.02)


def journal(folder):
    path = max((folder.path / ".wolfbane" / "runs").glob("*/journal.jsonl"))
    return [json.loads(line) for line in path.read_text().splitlines()]


def test_interrupted_once(folder):
    process = start_endless(folder)
    os.kill(process.pid, signal.SIGINT)
    out, _ = process.communicate(timeout=30)
    assert process.returncode == 130
    assert "Interrupted, 1 test not run; " in out
    assert [e["result"]["outcome"] for e in journal(folder) if "result" in e] == ["passed"]
    assert folder.processes() == []


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_an_interrupt_that_was_ignored_at_the_start_stays_ignored(folder, number):
    # As in the background of a script, or under nohup; SIGTERM stops the run as ever.
    body = """
        import pathlib, time
        def test_a():
            pathlib.Path("started").touch()
            while not pathlib.Path("go").exists():
                time.sleep(0.02)
        """
    folder.file("test_a.py", body)
    command = ["sh", "-c", 'trap "" INT; exec "$@"', "sh", *folder.command("run")]
    process = subprocess.Popen(
        command, cwd=folder.path, env=folder.environment(), stdout=subprocess.PIPE, text=True
    )
    wait_until((folder.path / "started").exists)
    process.send_signal(number)
    if number == signal.SIGINT:
        folder.file("go", "")
    out, _ = process.communicate(timeout=30)
    message, code = ("1 test passed", 0) if number == signal.SIGINT else ("Interrupted, ", 130)
    assert (process.returncode, message in out) == (code, True), out


def test_interrupted_while_files_are_loaded(folder):
    body = "import time\nopen('loading', 'w')\ntime.sleep(602)\ndef test_a(): pass\n"
    folder.file("test_a.py", body)
    process = start(folder)
    wait_until((folder.path / "loading").exists)
    os.kill(process.pid, signal.SIGINT)
    out, _ = process.communicate(timeout=30)
    assert process.returncode == 130, out
    assert "Interrupted, 1 test not run; " in out
    assert folder.processes() == []


def test_interrupted_as_soon_as_there_is_a_worker(folder):
    folder.file("test_a.py", "import time\ndef test_a(): time.sleep(600)\n")
    process = start(folder)
    wait_until(lambda: any("kinds/worker/start.py" in line for line in folder.processes()))
    os.kill(process.pid, signal.SIGINT)
    process.communicate(timeout=30)
    assert process.returncode == 130
    wait_until(lambda: folder.processes() == [])


@pytest.mark.parametrize(
    ("settings", "member"), [("", "0.1"), ("build = ['true']", "1.1"), ("env = {A = '1'}", "0.1")]
)
def test_the_first_worker_starts_before_the_run_unless_it_needs_something(folder, settings, member):
    folder.file(
        "wolfbane.toml", f"[[suite]]\nname = 'a'\nkind = 'python'\npaths = ['.']\n{settings}"
    )
    folder.file("test_a.py", "import os\ndef test_a(): assert not os.environ['WOLFBANE_RUN']\n")
    assert f".{member}'" in folder.call("run", "-j", "1").out


def test_a_worker_that_was_started_for_nothing_is_ended(folder):
    folder.file(
        "test_a.py", "import unittest\nclass A(unittest.TestCase): exec('def test_a(s): 0')\n"
    )
    assert folder.call("run", "--name", "test_b").code == 3
    assert folder.processes() == []


def test_interrupted_twice(folder):
    process = start_endless(folder)
    for _ in range(2):
        os.kill(process.pid, signal.SIGINT)
    process.communicate(timeout=30)
    assert process.returncode == 130
    wait_until(lambda: folder.processes() == [])


def test_killed_outright(folder):
    process = start_endless(folder)
    os.killpg(process.pid, signal.SIGKILL)
    process.communicate()
    wait_until(lambda: folder.processes() == [], seconds=5)
    results = [event["result"] for event in journal(folder) if "result" in event]
    assert [result["outcome"] for result in results] == ["passed"]
    assert "Interrupted: the record" in folder.call("show").out


def test_a_full_disk_stops_the_record_and_not_the_run(folder):
    body = "".join(f"def test_{n}():\n    assert {n} < 0, 'long ' * 50\n" for n in range(40))
    folder.file("test_a.py", body)
    program = shlex.join(folder.command("run", "-q"))
    done = subprocess.run(
        ["bash", "-c", f"ulimit -f 16; exec {program}"],
        cwd=folder.path,
        capture_output=True,
        text=True,
        env=folder.environment(),
        timeout=60,
        check=False,
    )
    assert (done.returncode, "40 of 40 tests failed" in done.stdout) == (1, True)
    assert "the record of this run is incomplete: [Errno 27] File too large" in done.stderr
    shown = folder.call("show", "-q")
    assert (shown.code, "the record of the run has no end" in shown.text) == (0, True)


def test_a_record_from_a_newer_version(folder):
    folder.file("test_a.py", "def test_a():\n    pass\n")
    folder.run()
    [journal] = folder.path.glob(".wolfbane/runs/*/journal.jsonl")
    text = journal.read_text().replace('"version":"', '"version":"9.')
    journal.write_text(text.replace('"type":"test-started"', '"type":"test-dreamt"'))
    shown = folder.call("show")
    assert shown.code == 2
    assert "journal.jsonl:2: not an event" in shown.err
    assert "the record was written by Wolfbane 9." in shown.err


def test_a_file_that_ends_its_workers_before_any_test_is_left(folder):
    tests = "".join(f"    def test_{number}(self): pass\n" for number in range(40))
    head = "import os, unittest\n\ndef setUpModule():\n    open('starts', 'a').write('x')\n"
    folder.file("test_bad.py", f"{head}    os._exit(3)\n\nclass A(unittest.TestCase):\n{tests}")
    folder.file("test_good.py", "def test_fine(): pass\n")
    run = folder.run("-j1")
    assert list(run.outcomes.values()).count("crashed") == 40
    assert run.outcomes["test_good.py#test_fine"] == "passed"
    assert (folder.path / "starts").read_text() == "xxx"
    assert "gave up on this file: 3 workers ended before any of its tests started" in run.out
    assert "36 more tests of test_bad.py with the same failure:\n" in run.out


DAMAGE = {
    "sys.stdout.close()": "sys.stdout closed",
    "sys.stdout = sys.__stdout__ = None": "sys.stdout replaced",
    "sys.stdout = object()": "sys.stdout replaced",
    "unittest.TestCase.assertTrue = 1": "unittest.TestCase.assertTrue replaced",
    "unittest.TestCase.setUp = lambda test: test.fail()": "unittest.TestCase.setUp replaced",
    "doctest.OutputChecker.check_output = None": "doctest.OutputChecker.check_output replaced",
    "sys.path.clear()": "removed from sys.path:",
    "os.chdir(tempfile.mkdtemp())": "working folder changed",
    "resource.setrlimit(resource.RLIMIT_NOFILE, (3, HARD))": "RLIMIT_NOFILE changed",
    "signal.signal(signal.SIGTERM, signal.SIG_IGN)": "handler of SIGTERM changed",
    "os.environ.clear()": "environment variables changed or removed",
}


@pytest.mark.parametrize("code", DAMAGE)
def test_what_a_test_does_to_its_process_costs_no_other(folder, code):
    python = SUPPORTED[list(DAMAGE).index(code) % len(SUPPORTED)]
    folder.file("rates.py", "RATE = 3\n")
    folder.file(
        "test_a.py",
        f"""
        import doctest, os, resource, signal, subprocess, sys, tempfile, unittest
        HARD = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
        class A(unittest.TestCase):
            def test_1_damages(self):
                {code}
            def test_2_after(self):
                import rates
                print("printed")
                with open("rates.py") as file: self.assertTrue(file.read())
                self.assertEqual(subprocess.run(["true"]).returncode, 0)
        class B(unittest.TestCase):
            def test_3_after(self):
                self.assertEqual(signal.getsignal(signal.SIGTERM), signal.SIG_DFL)
        """,
    )
    folder.file(
        "wolfbane.toml",
        f'[[suite]]\nname = "a"\nkind = "python"\npaths = ["test_a.py"]\npython = "{python}"\n',
    )
    run = folder.run()
    assert set(run.outcomes.values()) == {"passed"}, run.out
    assert run.results["test_a.py#A / test_2_after"]["output"] == "printed\n"
    assert f"test_a.py#A / test_1_damages changed its process ({DAMAGE[code]}" in run.out.replace(
        "\n", " "
    )


def test_what_a_file_does_to_modules_costs_no_other_file(folder):
    folder.write(
        rates_py="""
        DEBUG, COUNT, CACHE = False, 0, {}
        def rate(): return 3
        class Fee: pass
        """,
        test_a_py="""
        import json, rates
        own = 1
        def test_changes():
            global own
            own = 2
            rates.rate = json.dumps = lambda *values: 4
            rates.DEBUG, rates.COUNT = True, 5
            del rates.Fee
            rates.CACHE["tide"] = 2
            rates.added = 1
        def test_stays_in_its_file():
            assert (own, rates.rate(), rates.DEBUG) == (2, 4, True)
        """,
        test_b_py="""
        import json, rates
        def test_after():
            assert (rates.rate(), json.dumps(1), rates.DEBUG) == (3, "1", False) and rates.Fee
            # What counts, grows or is added may be tied to objects that stay.
            assert (rates.COUNT, rates.CACHE, rates.added) == (5, {"tide": 2}, 1)
        """,
    )
    run = folder.run("-j1", "test_a.py", "test_b.py")
    assert set(run.outcomes.values()) == {"passed"}, run.out
    assert (
        "test_a.py changed its process (json.dumps replaced; rates.DEBUG replaced; "
        "rates.Fee replaced; ...); the change was undone"
    ) in run.text


def test_a_source_that_is_a_pipe_holds_nothing_up(folder):
    os.mkfifo(folder.path / "tide.pl")
    folder.file("t/a.t", 'print "1..1\\nnot ok 1\\n#   at tide.pl line 3.\\n";\n')
    assert folder.run("t").outcomes == {"t/a.t": "failed"}


def test_what_cannot_be_undone_is_left_to_another_worker(folder):
    folder.file(
        "test_a.py",
        """
        import os, resource, unittest
        class A(unittest.TestCase):
            def test_1(self):
                resource.setrlimit(resource.RLIMIT_NOFILE, (20, 20))
                if os.geteuid() == 0:  # the superuser could undo it
                    os.setuid(65534)
            def test_2(self): self.assertGreater(resource.getrlimit(resource.RLIMIT_NOFILE)[1], 20)
        """,
    )
    assert set(folder.run().outcomes.values()) == {"passed"}


def test_clean_leaves_what_goes_on(folder):
    folder.file("test_a.py", "def test_a(): pass\n")
    folder.run()
    process = start_endless(folder)
    cleaned = folder.call("clean", "--keep", "0")
    assert cleaned.out.startswith("removed 1 run,")
    os.kill(process.pid, signal.SIGINT)
    out, _ = process.communicate(timeout=30)
    assert process.returncode == 130 and "1 passed" in out
    assert folder.call("show").code == 0


def test_few_file_descriptors_are_enough(folder):
    for number in range(6):
        folder.file(f"test_{number}.py", "def test_a(): pass\n")
    command = " ".join([*folder.command("run"), "-j", "4"])
    done = subprocess.run(
        ["bash", "-c", f"ulimit -n 64; {command}"],
        cwd=folder.path,
        env=folder.environment(),
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert "All 6 tests passed; " in done.stdout, done.stdout + done.stderr
