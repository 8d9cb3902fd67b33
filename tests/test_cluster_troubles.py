"""Clusters with machines that cannot be used, without a scheduler any more, and in common use."""

from __future__ import annotations

import asyncio
import json
import shutil
import signal
import subprocess
import types

import pytest
import trustme

from cluster_machines import Machines, needs_engine, until
from conftest import suite
from wolfbane.cluster.here.engine import MachineLink
from wolfbane.cluster.messages import StopNow

pytestmark = needs_engine

SUITE = suite("tides", "python", "tides") + '[param.key]\nsecret = true\nexport = "KEY"\n'
SECRET = "low-water-mark"


@pytest.fixture
def tides(folder):
    folder.file("wolfbane.toml", SUITE)
    for number in range(4):
        folder.file(
            f"tides/test_{number}.py",
            f"""
            import os, pathlib, time
            def test_high():
                assert os.environ["KEY"] == "{SECRET}"
                wait = pathlib.Path({str(folder.path / "wait")!r})
                if {number} == 3 and wait.exists():
                    wait.with_name("waits").touch()
                    while wait.exists():
                        time.sleep(0.05)
        """,
        )
    folder.file("tides/table.bin", "x" * 300_000)
    return folder


def tls_files(folder):
    authority = trustme.CA()
    authority.cert_pem.write_to_path(str(folder / "ca.pem"))
    issued = authority.issue_cert("127.0.0.1", "localhost")
    issued.cert_chain_pems[0].write_to_path(str(folder / "quay.pem"))
    issued.private_key_pem.write_to_path(str(folder / "key.pem"))
    return (
        "--tls-ca-file",
        str(folder / "ca.pem"),
        "--tls-cert",
        str(folder / "quay.pem"),
        "--tls-key",
        str(folder / "key.pem"),
    )


@pytest.fixture
def elsewhere(tmp_path_factory):
    return tmp_path_factory.mktemp("cluster")


@pytest.fixture
def small_disk(elsewhere):
    """A folder on a file system with room for less than the workspace."""
    folder = elsewhere / "quay-full" / "cache"
    folder.mkdir(parents=True)
    options = ("-t", "tmpfs", "-o", "size=128k", "tmpfs", str(folder))
    if (
        not shutil.which("mount")
        or subprocess.run(["mount", *options], capture_output=True, check=False).returncode
    ):
        pytest.skip("no file system can be mounted here")
    yield folder
    subprocess.run(["umount", "--lazy", str(folder)], check=True)


@pytest.fixture
def cluster(elsewhere):
    """A scheduler with one machine."""
    result = Machines(elsewhere)
    result.join("quay-1")
    yield result
    result.close()


@pytest.fixture
def run(tides, cluster):
    """A run whose last test waits until the file 'wait' is gone."""
    (tides.path / "wait").touch()
    run = begin(tides, cluster, "first.json")
    until((tides.path / "waits").exists, run)
    yield run
    (tides.path / "wait").unlink(missing_ok=True)


def test_over_tls_and_without_machines_that_cannot_be_used(tides, elsewhere, small_disk):
    folder = elsewhere
    cluster = Machines(folder, tls_files(folder))
    try:
        older = folder / "older.py"
        older.write_text('import wolfbane\nwolfbane.__version__ = "0.0.9"\n')
        cluster.join("quay-1")
        cluster.join("quay-full")
        cluster.join("quay-old", "--preload", str(older))
        files = {"ca": "ca.pem", "certificate": "quay.pem", "key": "key.pem"}
        keys = "".join(f'{key} = "{folder}/{name}"\n' for key, name in files.items())
        tides.file("wolfbane.toml", f'{SUITE}[cluster]\naddress = "{cluster.address}"\n{keys}')
        done = tides.run("--set", f"key={SECRET}", "--on", "cluster")
        plain = tides.run("--set", f"key={SECRET}", "--on", cluster.address.replace("tls", "tcp"))
        shown = tides.call("machines")
        logs = "".join(log.read_text() for log in folder.glob("*/log"))
    finally:
        cluster.close()
    assert (done.code, set(done.outcomes.values())) == (0, {"passed"}), done.out + done.err
    assert {each["machine"] for each in done.results.values()} == {"quay-1"}
    assert (
        "cannot use machine quay-full: the machine cannot store the workspace: No space left"
        in done.text
    )
    assert (
        "cannot use machine quay-old: different versions of Wolfbane: 0.0.9 on this machine, "
        in done.text
    )
    assert plain.code == 4, plain.out + plain.err
    assert "different versions of Wolfbane: 0.0.9" in shown.text
    assert SECRET not in logs
    assert not any(SECRET in path.read_text() for path in folder.rglob("*.json"))


def test_a_scheduler_that_is_gone(tides, cluster, run):
    cluster.scheduler.kill()
    output, trouble = run.communicate(timeout=120)
    report = json.loads((tides.path / "first.json").read_text())
    outcomes = [each["outcome"] for each in report["results"]]
    assert run.returncode == 4, output + trouble
    assert sorted(outcomes) == ["blocked", "passed", "passed", "passed"], output
    assert "lost the connection to machine quay-1, and the test was not run again" in " ".join(
        output.split()
    )
    assert trouble == ""
    assert "the scheduler does not answer" in output


def test_a_scheduler_that_is_busy_for_some_time(tides, cluster, run):
    cluster.scheduler.send_signal(signal.SIGSTOP)
    with pytest.raises(subprocess.TimeoutExpired):
        run.wait(timeout=8)  # longer than a look for machines waits
    cluster.scheduler.send_signal(signal.SIGCONT)
    (tides.path / "wait").unlink()
    output, trouble = run.communicate(timeout=120)
    assert (run.returncode, trouble) == (0, ""), output


def test_a_machine_that_is_called_by_its_address(tides, elsewhere):
    """What a test leaves behind comes back in pieces, up to a limit."""
    head = '[cluster]\nevidence_limit = "6 MB"\n'
    tides.file("wolfbane.toml", head + suite("rules", "scenario", "rules"))
    tides.file("rules/quay.feature", "Feature: q\n  Scenario: s\n    Given pictures\n")
    tides.file(
        "rules/steps/quay.py",
        """
        from wolfbane.steps import attach, step
        @step("pictures")
        def pictures():
            attach("a" * 5_000_000, "whole.txt")
            attach("b" * 7_000_000, "cut.txt")
            assert False
    """,
    )
    cluster = Machines(elsewhere)
    try:
        cluster.join("nameless", named=False)
        done = tides.run("--on", cluster.address)
    finally:
        cluster.close()
    (result,) = done.results.values()
    assert result["machine"].startswith("tcp://127.0.0.1:")
    (run,) = (tides.path / ".wolfbane" / "runs").iterdir()
    sizes = [(run / each["path"]).stat().st_size for each in result["evidence"]]
    assert sorted(sizes) == [5_000_000, 6_000_000]
    assert "s.txt was shortened ([cluster] evidence_limit)" in done.text


def test_two_runs_on_one_cluster(tides, cluster, run):
    second = begin(tides, cluster, "second.json", "--name", "high", "--drop", "file:test_3.py")
    assert second.wait(timeout=120) == 0
    (tides.path / "wait").unlink()
    assert run.wait(timeout=120) == 0
    counts = [
        len(json.loads((tides.path / name).read_text())["results"])
        for name in ("first.json", "second.json")
    ]
    assert counts == [4, 3]


def test_a_message_that_was_just_answered_can_be_cancelled():
    async def cancelled():
        answer = asyncio.get_running_loop().create_future()
        actor = types.SimpleNamespace(send=lambda data: answer)
        link = MachineLink("tcp://quay-1:1", "quay-1", 1, actor, None)
        sending = asyncio.create_task(link.send(StopNow()))
        await asyncio.sleep(0)
        await asyncio.sleep(0)
        answer.set_result(None)
        sending.cancel()
        await asyncio.wait([sending])
        return sending.cancelled()

    assert asyncio.run(cancelled())


def begin(folder, cluster, report, *arguments):
    command = folder.command(
        "run",
        "--set",
        f"key={SECRET}",
        "--on",
        cluster.address,
        "--report",
        f"json={report}",
        *arguments,
    )
    return subprocess.Popen(
        command,
        cwd=folder.path,
        env=folder.environment(),
        text=True,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )


def test_a_workspace_over_the_limit_does_not_travel(tides):
    tides.file("charts/sea.bin", "x" * 3_000_000)
    tides.file("wolfbane.toml", f'{SUITE}\n    [cluster]\n    limit = "2 MB"\n')
    done = tides.run("--set", f"key={SECRET}", "--on", "tcp://127.0.0.1:9")
    assert done.code == 2
    arguments = " ".join(done.err.split())
    expected = "the workspace is 3.3 MB, but the limit is 2.0 MB; largest: charts 3.0 MB, tides 30"
    assert expected in arguments, arguments
    assert "[cluster] exclude" in arguments
    assert not list((tides.path / ".wolfbane" / "runs").iterdir())
