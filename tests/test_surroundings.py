"""What suites need around them: services, probes, several environments in one run."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import time

import psutil
import pytest

from conftest import suite

SERVICE = """
import http.server, os, subprocess, sys
class Desk(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200)
        self.end_headers()
        self.wfile.write(os.environ.get("NAME", "").encode())
        print("asked for", self.path, "with", os.environ.get("TOKEN"), flush=True)
helper = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(600)"])
http.server.HTTPServer(("127.0.0.1", int(sys.argv[1])), Desk).serve_forever()
"""
SETTINGS = f"""
[workspace]
env = "local"
[[suite]]
name = "desk"
kind = "python"
paths = ["desk"]
needs = ["booking"]
values_file = {{ json = "VALUES", env = "LINES" }}
[[suite]]
name = "unit"
kind = "python"
paths = ["unit"]
[service.booking]
command = ["{sys.executable}", "service.py", "{{port}}"]
env = {{ NAME = "{{quay.name}}", TOKEN = "{{token}}" }}
ready = "http://127.0.0.1:{{port}}/health"
[param.url]
type = "url"
export = "URL"
required = true
[param.quay.name]
default = "north"
export = "QUAY"
[param.token]
secret = true
default_is_not_allowed = 0
[env.local]
url = "http://127.0.0.1:{{booking.port}}"
token = {{ file = "token.txt" }}
[env.staging]
url = "http://127.0.0.1:STAGING"
token = {{ file = "token.txt" }}
ready = "{{url}}/health"
services = []
""".replace("default_is_not_allowed = 0\n", "")
DESK = """
import json, os, unittest, urllib.request
class Desk(unittest.TestCase):
    def test_name(self):
        with urllib.request.urlopen(os.environ["URL"]) as answer:
            self.assertEqual(answer.read().decode(), os.environ["QUAY"])
    def test_values(self):
        with open(os.environ["VALUES"]) as file:
            values = json.load(file)
        self.assertEqual(values["quay"], {"name": os.environ["QUAY"]})
        with open(os.environ["LINES"]) as file:
            self.assertIn("QUAY_NAME=" + os.environ["QUAY"], file.read().split())
    def test_north(self):
        self.assertNotEqual(os.environ["QUAY"], "south")
"""
SECRET = "heron-at-low-tide"


@pytest.fixture
def free_port():
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        return listener.getsockname()[1]


@pytest.fixture
def quay(folder, free_port):
    folder.file("wolfbane.toml", SETTINGS.replace("STAGING", str(free_port)))
    folder.file("service.py", SERVICE)
    folder.file("token.txt", f"{SECRET}\n")
    folder.file("desk/test_desk.py", DESK)
    folder.file("unit/test_unit.py", "def test_one(): pass\n")
    return folder


def of_folder(folder):
    """Live processes that work in this folder."""
    matches = []
    for process in psutil.process_iter():
        try:
            alive = process.status() != psutil.STATUS_ZOMBIE
            if alive and process.cwd() == str(folder.path) and process.pid != os.getpid():
                matches.append(process)
        except psutil.Error:
            continue
    return matches


def test_a_service_is_there_for_its_suite_and_gone_afterwards(quay):
    run = quay.run()
    assert run.code == 0, run.out
    assert "starting   service booking on port" in run.out
    assert not of_folder(quay)
    (log,) = quay.path.glob(".wolfbane/runs/*/service-booking.log")
    assert "asked for /health with *****" in log.read_text()
    left = [path for path in quay.path.rglob("*") if path.is_file() and path.name != "token.txt"]
    assert not [path for path in left if SECRET in path.read_text(errors="replace")]
    assert "starting" not in quay.run("--suite", "unit").out


def test_nothing_is_left_when_wolfbane_is_killed(quay):
    quay.file("desk/test_long.py", "import time\ndef test_long(): time.sleep(600)\n")
    process = subprocess.Popen(quay.command("run", "desk"), cwd=quay.path, env=quay.environment())
    journal = []
    while not any("test-started" in path.read_text() for path in journal):
        journal = list(quay.path.glob(".wolfbane/runs/*/journal.jsonl"))
        assert process.poll() is None
    assert len(of_folder(quay)) > 2
    process.send_signal(signal.SIGKILL)
    process.wait()
    end = time.monotonic() + 10
    while of_folder(quay) and time.monotonic() < end:
        pass
    assert not of_folder(quay)


@pytest.mark.parametrize(
    ("before", "after", "said"),
    [
        (
            '"service.py"',
            '"nowhere.py"',
            "service booking stopped before it was ready (exit code 2",
        ),
        (f'"{sys.executable}", "service.py"', '"no-such-program"', "No such file or directory"),
    ],
)
def test_a_service_that_does_not_come_up_blocks_its_suite(quay, before, after, said):
    text = (quay.path / "wolfbane.toml").read_text().replace(before, after, 1)
    quay.file("wolfbane.toml", text)
    run = quay.run()
    assert run.code == 4 and run.out.count(said) == 1, run.out
    assert run.outcomes["unit/test_unit.py#test_one"] == "passed"
    assert run.outcomes["desk/test_desk.py#Desk / test_name"] == "blocked"
    assert "blocked  3 tests of desk" in run.out


def test_an_environment_that_is_down_is_said_once(quay):
    run = quay.run("--env", "staging")
    assert run.code == 4
    assert run.out.count("staging is not ready") == 1 and "connection refused" in run.out
    assert list(run.outcomes.values()).count("blocked") == 3
    assert run.outcomes["unit/test_unit.py#test_one"] == "passed"


def test_only_selected_tests_are_blocked(quay):
    quay.file(
        "unit/test_more.py",
        """
        import unittest
        # tags: smoke
        class Smoke(unittest.TestCase):
            def test_a(self): pass
    """,
    )
    made = "import unittest\nclass Made(unittest.TestCase): pass\nsetattr(Made, 'test_x', print)\n"
    quay.file("desk/test_made.py", made)
    run = quay.run("--tag", "smoke", "--env", "staging")
    assert run.outcomes == {"unit/test_more.py#Smoke / test_a": "passed"}
    assert "of its files may contain more selected tests" in run.text
    only = quay.run("--tag", "smoke", "--env", "staging", "--suite", "desk")
    assert (only.code, set(only.outcomes.values())) == (4, {"blocked"})


def test_a_missing_runtime_blocks_each_test(folder):
    folder.file("old/test_a.py", "def test_a(): pass\n# tags: slow\ndef test_b(): pass\n")
    folder.file("wolfbane.toml", suite("old", "python", "old", python="python9.9"))
    assert folder.run().outcomes == dict.fromkeys(
        ["old/test_a.py#test_a", "old/test_a.py#test_b"], "blocked"
    )
    assert list(folder.run("--tag", "slow").outcomes) == ["old/test_a.py#test_b"]


def test_several_environments_side_by_side(quay, free_port):
    staging = subprocess.Popen(
        [sys.executable, "-m", "http.server", str(free_port)],
        cwd=quay.path / "unit",
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    quay.file("unit/health", "up")
    run = quay.run("--env", "local,staging")
    one = quay.run("desk/test_desk.py#Desk / test_name @staging")
    again = quay.run("--env", "local,staging", "--status", "failed")
    staging.kill()
    staging.wait()
    address = "desk/test_desk.py#Desk / test_name"
    assert run.outcomes[f"{address} @local"] == "passed"
    assert run.outcomes[f"{address} @staging"] == "failed"
    assert len(run.outcomes) == 8 and run.code == 1
    rows = [line.split() for line in run.out.splitlines()]
    assert ["suite", "local", "staging"] in rows
    assert ["desk", "3", "passed", "2", "passed"] in rows
    assert ["local", "passed", "staging", "failed"] in rows
    assert one.outcomes == again.outcomes == {f"{address} @staging": "failed"}


def test_a_run_is_spread_over_the_values_of_a_parameter(quay):
    spread = ("--set", "quay.name=north,south", "--spread", "quay.name")
    run = quay.run(*spread, "--name", "north")
    address = "desk/test_desk.py#Desk / test_north"
    assert run.outcomes == {
        f"{address} @quay.name=north": "passed",
        f"{address} @quay.name=south": "failed",
    }
    assert quay.run(f"{address} @quay.name=south").code == 1
    assert quay.run(f"{address} @quay.name=north").code == 0


@pytest.mark.parametrize(
    ("before", "after", "said"),
    [
        ('needs = ["booking"]', 'needs = ["bookin"]', "no service 'bookin'; did you mean booking?"),
        ("services = []", 'services = ["boking"]', "no service 'boking'; did you mean booking?"),
        ('ready = "{url}/health"', "ready = { htp = 1 }", "unknown key 'htp'; did you mean http?"),
        ('ready = "{url}/health"', 'ready = "{ulr}/x"', "contains {ulr}, which is not a parameter"),
        ('"service.py", "{port}"', '"service.py", "{token}"', "its command contains a secret"),
        (
            '"service.py", "{port}"',
            '"service.py", "{prt}"',
            "contains {prt}, which is not a parameter",
        ),
        ("json =", "jsn =", "unknown form 'jsn'; did you mean json?"),
    ],
)
def test_what_is_wrong_with_the_surroundings(quay, before, after, said):
    text = (quay.path / "wolfbane.toml").read_text()
    assert before in text
    quay.file("wolfbane.toml", text.replace(before, after))
    run = quay.run("--env", "local,staging")
    assert run.code == 2 and said in run.err, run.err
    assert not run.results


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["--spread", "quay.nam"], "no parameter 'quay.nam'; did you mean quay.name?"),
        (["--spread", "token"], "'token' is a secret"),
        (["--env", "local,stagin"], "no environment 'stagin'; did you mean staging?"),
    ],
)
def test_what_is_wrong_with_several(quay, arguments, said):
    run = quay.run(*arguments)
    assert run.code == 2 and said in run.err, run.err


def test_no_test_is_named_after_a_secret(quay):
    quay.file(
        "unit/test_named.py",
        """
        import os, unittest
        class Named(unittest.TestCase): pass
        name = "test_" + open("token.txt").read().strip()
        setattr(Named, name, lambda self: None)
        """,
    )
    run = quay.run("unit/test_named.py")
    assert run.code == 1 and "the name of a test contains a secret" in run.out
    told = [run.out, *(p.read_text() for p in quay.path.glob(".wolfbane/**/*") if p.is_file())]
    assert not [text for text in told if SECRET in text]


def test_doctor_says_what_is_missing_and_how_to_mend_it(quay):
    well = quay.call("doctor", "--probe")
    assert well.code == 0 and "environment staging  not ready" in well.out
    quay.file("lost/test_lost.py", "def test_lost(): pass\n")
    quay.file("empty/readme.txt", "")
    more = """
    [[suite]]
    name = "page"
    kind = "node"
    paths = ["empty"]
    node = "no-such-node"
    [[tag]]
    name = "old"
    match = "name:barometer"
    [preset.gone]
    arguments = ["--tag", "smoke"]
    [preset.wrong]
    arguments = ["--suite", "desks"]
    """
    text = (quay.path / "wolfbane.toml").read_text().replace("service.py", "gone.py")
    quay.file("wolfbane.toml", text + more.replace("    ", ""))
    run = quay.call("doctor", "--probe", "--as", "json")
    result = {(item["about"], item["state"]): item["message"] for item in json.loads(run.out)}
    assert run.code == 4
    assert "no-such-node" in result["suite page", "missing"]
    assert result["suite page", "warning"] == "the suite has no tests"
    assert "lost/test_lost.py" in result["files", "warning"]
    assert "name:barometer matches 0" in result["rule for tag old", "warning"]
    assert "tag:smoke matches 0" in result["preset gone", "warning"]
    assert "did you mean desk?" in result["preset wrong", "warning"]


def test_compose_asks_counts_and_runs(quay, tmp_path):
    quay.file("answers.toml", 'suites = ["unit"]\nthen = "run"\n')
    run = quay.call("compose", "--answers", "answers.toml")
    assert run.code == 0 and "1 test of 1 suite" in run.out and "1 passed" in run.out
    typed = subprocess.run(
        quay.command("compose"),
        cwd=quay.path,
        env=quay.environment(),
        text=True,
        input="desks\n1\nlocal,staging\n2\n\nsave both\n",
        capture_output=True,
        check=True,
    ).stdout
    assert "'desks' is not one of the choices; did you mean desk?" in typed
    assert "3 tests of 1 suite, each in 2 environments" in typed
    assert "wolfbane run --suite desk --retries 2 --env local,staging" in typed
    assert "--suite desk --retries 2 --env local,staging" in quay.call("preset", "list").out
    quay.file("answers.toml", "retries = 1\n")
    assert "wolfbane run --retries 1" in quay.call("compose", "--answers", "answers.toml").out
    quay.file("answers.toml", 'suite = ["unit"]\n')
    wrong = quay.call("compose", "--answers", "answers.toml")
    assert wrong.code == 2 and "unknown key 'suite'; did you mean suites?" in wrong.err


STRANGER = """
import http.server, sys
class Answer(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200)
        self.end_headers()
server = http.server.HTTPServer(("127.0.0.1", int(sys.argv[1])), Answer)
print("up", flush=True)
server.serve_forever()
"""


@pytest.mark.parametrize("where", ["port", "probe"])
def test_a_stranger_on_a_services_port_is_not_the_service(quay, where):
    text = (quay.path / "wolfbane.toml").read_text()
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    if where == "port":
        text = text.replace("[service.booking]", f"[service.booking]\nport = {port}")
    else:  # it goes elsewhere, and something else answers where it is looked for
        text = text.replace('"http://127.0.0.1:{port}/health"', f'"http://127.0.0.1:{port}/"')
    (quay.path / "wolfbane.toml").write_text(text)
    command = [sys.executable, "-c", STRANGER, str(port)]
    with subprocess.Popen(command, stdout=subprocess.PIPE) as stranger:
        assert stranger.stdout.readline() == b"up\n"
        run = quay.run("desk")
        stranger.kill()
    assert (run.code, set(run.outcomes.values())) == (4, {"blocked"})
    assert f"port {port} is already used by" in run.out
