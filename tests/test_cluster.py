"""``--on``: a run over the machines of a cluster engine, here a scheduler and two workers."""

from __future__ import annotations

import http.server
import json
import os
import signal
import subprocess
import threading
from pathlib import Path

import psutil
import pytest

from cluster_machines import Machines, machines, needs_engine, owner, until
from conftest import Folder, suite
from wolfbane.cluster.here.packing import contents, pack
from wolfbane.cluster.there import unpacking
from wolfbane.cluster.there.unpacking import MachineStore
from wolfbane.errors import InputError

pytestmark = needs_engine
__all__ = ["machines"]  # a fixture


@pytest.fixture
def quay(folder):
    suites = suite("tides", "python", "tides") + suite("rules", "scenario", "rules")
    key = '[param.key]\nsecret = true\nexport = "KEY"\n'
    folder.file("wolfbane.toml", f'[workspace]\nname = "Quay"\n{suites}{key}')
    for number in range(6):
        folder.file(
            f"tides/test_{number}.py",
            f"""
            import os, unittest
            class Tide(unittest.TestCase):
                def test_high(self):
                    print("in", os.getcwd(), "with", os.environ.get("KEY"))
                def test_low(self):
                    self.assertNotEqual({number}, 4)
        """,
        )
    folder.file("rules/quay.feature", "Feature: q\n  Scenario: s\n    Given a picture\n")
    folder.file(
        "rules/steps/quay.py",
        """
        from wolfbane.steps import attach, step
        @step("a picture")
        def picture():
            attach("free: A1", "berths.txt")
            assert False
    """,
    )
    folder.file("tool.sh", "#!/bin/sh\n", 0o755)
    (folder.path / "link").symlink_to("tool.sh")
    return folder


def test_the_outcomes_are_those_of_a_local_run(machines, quay):
    local = quay.run("--set", "key=low-water")
    there = quay.run("--set", "key=low-water", "--on", machines.address)
    assert there.outcomes == local.outcomes, there.out + there.err
    assert there.code == local.code == 1
    assert {each["machine"] for each in there.results.values()} == {"quay-1", "quay-2"}
    seconds = json.loads((quay.path / "report.json").read_text())["finished"]["seconds"]
    assert all(0 < each["began"] < seconds for each in there.results.values())
    assert f"the machines of cluster {machines.address}" in there.text
    printed = "".join(each["output"] for each in there.results.values())
    assert "with *****" in printed
    assert str(quay.path) not in printed
    (picture,) = [e for each in there.results.values() for e in each["evidence"]]
    run = json.loads((quay.path / "report.json").read_text())["started"]["run"]
    kept = quay.path / ".wolfbane" / "runs" / run / picture["path"]
    assert kept.read_text() == "free: A1"
    assert "low-water" not in (kept.parent.parent / "journal.jsonl").read_text()
    before = [machines.contents(name) for name in ("quay-1", "quay-2")]
    again = quay.run("--set", "key=low-water", "--on", machines.address)
    assert again.outcomes == local.outcomes
    assert [machines.contents(name) for name in ("quay-1", "quay-2")] == before, (
        "nothing is sent twice"
    )


def with_tools(quay):
    settings = quay.path / "wolfbane.toml"
    for name, tool in (("gauge", "tidetool"), ("lost", "nowhere-tool")):
        more = suite(name, "program", name, interpreters={".x": tool})
        settings.write_text(settings.read_text() + more)
        quay.file(f"{name}/a.x", "")
    more = suite("depth", "program", "depth", requires=["tidetool"])
    settings.write_text(settings.read_text() + more)
    quay.file("depth/a.sh", "tidetool")


def test_a_machine_whose_environment_is_down(machines, quay):
    settings = quay.path / "wolfbane.toml"
    ready = 'ready = { command = ["tidetool"], within = "0.2s" }'  # quay-1 has it
    settings.write_text(f"{settings.read_text()}[env.harbour]\n{ready}\n[env.basin]\n")
    there = quay.run("--env", "harbour,basin", "--set", "key=x", "--on", machines.address)
    ran = {each["machine"] for address, each in there.results.items() if "@harbour" in address}
    assert ran == {"quay-1"}, there.out
    message = (
        "machine quay-2 ran no tests of tides @harbour, rules @harbour: harbour is not ready: "
    )
    assert message in there.text and there.text.count("ran no tests of") == 1
    assert there.code == 1


def test_batches_go_only_where_they_can_run(machines, quay):
    with_tools(quay)
    there = quay.run("gauge", "lost", "depth", "--set", "key=x", "--on", machines.address)
    expected = {"gauge/a.x": "passed", "depth/a.sh": "passed", "lost/a.x": "blocked"}
    assert there.outcomes == expected, there.out
    for path in ("gauge/a.x", "depth/a.sh"):
        assert there.results[path]["machine"] == "quay-1"
    message = there.results["lost/a.x"]["message"]
    assert message.startswith("no machine can run this suite: ")
    assert "nowhere-tool" in message
    assert there.code == 4
    told = quay.call("machines", "--on", machines.address)
    assert told.code == 4
    assert "4 of 5" in told.out
    assert "2 of 5" in told.out
    assert "suite gauge: interpreter 'tidetool'" in told.text
    assert "suite depth: required program 'tidetool' not found" in told.text
    rows = json.loads(quay.call("machines", "--on", machines.address, "--as", "json").out)
    assert [row["name"] for row in rows] == ["quay-1", "quay-2"]
    assert rows[0]["facts"]["cores"] > 0
    with (quay.path / "wolfbane.toml").open("a") as file:
        file.write(f'\n[cluster]\naddress = "{machines.address}"\n')
    looked = quay.call("doctor")
    assert f"{machines.address} is not contacted" in looked.text


def test_the_time_limit_of_a_run_ends_it_on_machines(machines, folder):
    folder.file("wolfbane.toml", suite("slow", "program", "slow"))
    folder.file("slow/a.sh", "exec sleep 600")
    there = folder.run("--run-time", "3s", "--on", machines.address)
    assert there.code == 3, there.out  # no test has a result
    assert "stopped after the time limit of 3 s (--run-time)" in there.text


def test_a_lost_machine_loses_nothing(machines, quay, tmp_path):
    machines.join("quay-3")
    mark = tmp_path / "kill-me"
    quay.file(
        "tides/test_0.py",
        f"""
        import os, pathlib, time
        def test_waits():
            mark = pathlib.Path({str(mark)!r})
            if not mark.exists():
                mark.write_text(str(os.getpid()))
                time.sleep(600)
    """,
    )
    command = quay.command(
        "run",
        "--suite",
        "tides",
        "--set",
        "key=x",
        "--on",
        machines.address,
        "--report",
        "json=out.json",
    )
    run = subprocess.Popen(command, cwd=quay.path, env=quay.environment(), stdout=subprocess.PIPE)
    until(lambda: mark.exists() and mark.read_text(), run)
    name, worker = owner(machines, int(mark.read_text()))
    worker.kill()
    worker.wait()
    output = run.communicate(timeout=120)[0].decode()
    results = {e["address"]: e for e in json.loads((quay.path / "out.json").read_text())["results"]}
    waits = results["tides/test_0.py#test_waits"]
    assert len(results) == 11, output
    assert waits["outcome"] == "passed"
    assert [e["message"] for e in waits["earlier"]] == [f"lost the connection to machine {name}"]
    assert waits["machine"] != name
    assert [e["outcome"] for e in results.values()].count("failed") == 1
    assert f"lost the connection to machine {name}" in output
    machines.join(name)


def test_nothing_is_left_running_for_a_run_that_was_killed(machines, quay, tmp_path):
    mark = tmp_path / "pid"
    quay.file(
        "tides/test_0.py",
        f"""
        import os, pathlib, time
        def test_waits():
            pathlib.Path({str(mark)!r}).write_text(str(os.getpid()))
            time.sleep(600)
    """,
    )
    command = quay.command("run", "tides/test_0.py", "--set", "key=x", "--on", machines.address)
    run = subprocess.Popen(command, cwd=quay.path, env=quay.environment(), stdout=subprocess.PIPE)
    until(lambda: mark.exists() and mark.read_text(), run)
    pid = int(mark.read_text())
    run.send_signal(signal.SIGINT)
    assert run.wait(timeout=60) == 130
    until(lambda: not psutil.pid_exists(pid))
    run = subprocess.Popen(command, cwd=quay.path, env=quay.environment(), stdout=subprocess.PIPE)
    until(lambda: mark.read_text() not in ("", str(pid)), run)
    pid = int(mark.read_text())
    run.kill()
    run.wait()
    until(lambda: not psutil.pid_exists(pid))


@pytest.mark.parametrize(
    ("address", "code", "message"),
    [
        ("127.0.0.1:8786", 2, "'127.0.0.1:8786' is not an address; tcp://HOST:PORT"),
        ("cluster", 2, "'' is not an address"),
        (
            "tcp://harbour.example:8786",
            2,
            "secrets would be sent without encryption; use a tls:// address",
        ),
        ("tcp://127.0.0.1:9", 4, "cannot connect to the scheduler"),
    ],
)
def test_addresses_that_are_of_no_use(quay, address, code, message):
    done = quay.run("--set", "key=x", "--on", address)
    assert (done.code, done.results) == (code, {})
    assert message in " ".join(done.err.split())
    assert not list((quay.path / ".wolfbane" / "runs").iterdir())


def test_what_answers_is_no_scheduler(quay):
    """It speaks another protocol, as a scheduler of another age may."""
    with http.server.HTTPServer(("127.0.0.1", 0), http.server.BaseHTTPRequestHandler) as other:
        threading.Thread(target=other.serve_forever, daemon=True).start()
        done = quay.run("--set", "key=x", "--on", f"tcp://127.0.0.1:{other.server_port}")
        other.shutdown()
    assert (done.code, done.results) == (4, {})
    assert "cannot connect to the scheduler: " in done.err
    assert "Traceback" not in done.err


def test_a_scheduler_without_machines(quay, tmp_path):
    alone = Machines(tmp_path)
    try:
        done = quay.run("--set", "key=x", "--on", alone.address)
    finally:
        alone.close()
    assert (done.code, "no machine is connected to the scheduler" in done.err) == (4, True), (
        done.err
    )


def test_what_travels(folder, tmp_path):
    folder.file("a/one.txt", "1")
    folder.file("b/two.txt", "22")
    folder.file("run.sh", "#!/bin/sh\n", 0o755)
    folder.file(".gitignore", "ignored\n.env\n")
    folder.file(".env", "KEY=x")
    folder.file("ignored/data.bin", "data")
    folder.file("ignored/other.bin", "other")
    folder.file(".wolfbane/inventory.json", "{}")
    (folder.path / "link").symlink_to("a/one.txt")
    folder.git("init", "--quiet")
    manifest = pack(folder.path, ["ignored/data.*"], ["b"], [".wolfbane"], 1000)
    assert [file.path for file in manifest.files] == [
        ".gitignore",
        "a/one.txt",
        "ignored/data.bin",
        "link",
        "run.sh",
    ]
    store = MachineStore(tmp_path / "store")
    lacking = store.lacking(manifest)
    assert len(lacking) == 4
    store.take({file.content: (folder.path / file.path).read_bytes() for file in lacking})
    assert store.lacking(manifest) == []
    with store.tree(manifest) as tree, store.tree(manifest) as other:
        assert tree != other, "two runs have a folder each"
        assert (tree / "link").readlink() == Path("a/one.txt")
        assert os.access(tree / "run.sh", os.X_OK)
        (tree / "a/one.txt").write_text("changed")
        assert (other / "a/one.txt").read_text() == "1"
    with store.tree(manifest) as tree:
        assert (tree / "a/one.txt").read_text() == "1", "what a test changed is written again"
    with pytest.raises(InputError, match="but the limit is "):
        pack(folder.path, [], [], [], 3)


def test_names_that_differ_only_by_case(folder, tmp_path_factory, monkeypatch):
    folder.file("tests/quay.txt", "1")
    folder.file("tests/Quay.txt", "2")
    store = MachineStore(tmp_path_factory.mktemp("store"))
    manifest = pack(folder.path, [], [], [], 1000)
    store.take({file.content: (folder.path / file.path).read_bytes() for file in manifest.files})
    with store.tree(manifest) as tree:
        assert (tree / "tests/quay.txt").read_text() == "1"
        assert (tree / "tests/Quay.txt").read_text() == "2"
    monkeypatch.setattr(unpacking, "ignores_case", lambda path: True)
    message = "file names that differ only in case: tests/Quay.txt and tests/quay.txt"
    with pytest.raises(OSError, match=message), store.tree(manifest):
        pass


def test_old_copies_are_removed(folder, tmp_path_factory):
    folder.file("tables.csv", "1")
    target = tmp_path_factory.mktemp("store")
    store = MachineStore(target)
    manifest = pack(folder.path, [], [], [], 1000)
    store.take({file.content: (folder.path / file.path).read_bytes() for file in manifest.files})
    with store.tree(manifest) as tree:
        old = tree.parent
    for path in (old, *(target / "contents").iterdir()):
        os.utime(path, (0, 0))
    with store.tree(manifest):
        store.tidy()
        assert old.exists(), "it is in use"
    for path in (old, *(target / "contents").iterdir()):
        os.utime(path, (0, 0))
    store.tidy()
    assert not old.exists()
    assert not list((target / "contents").iterdir())


def test_a_file_that_changes_while_it_is_packed(folder):
    folder.file("tables.csv", "1")
    manifest = pack(folder.path, [], [], [], 1000)
    folder.file("tables.csv", "2")
    with pytest.raises(InputError, match=r"tables.csv: the file changed during packing"):
        list(contents(folder.path, manifest.files))


def test_the_demo_has_the_same_outcomes(machines, tmp_path):
    from wolfbane.demo import copy_harbour

    harbour = Folder(copy_harbour(tmp_path / "harbour"))
    chosen = (
        "--drop",
        "suite:pages or suite:map or suite:tide-gauge or suite:page-specs",
        "--set",
        "token=@booking/token.txt",
    )
    there = harbour.run(*chosen, "--on", machines.address)
    local = harbour.run(*chosen)
    assert there.outcomes == local.outcomes, there.out
    assert there.code == local.code
