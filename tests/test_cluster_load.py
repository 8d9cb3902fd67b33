"""``load --on``: users over the machines of a cluster engine, measured together."""

from __future__ import annotations

import signal
import subprocess

import pytest

from cluster_machines import machines, needs_engine, until
from quay_api import flows, quay, server, step
from test_load import count, events, load, samples

pytestmark = needs_engine
__all__ = ["machines", "quay", "server"]  # fixtures


def test_a_load_is_spread_over_machines(machines, quay):
    flows(quay, {"workflowId": "w", "steps": [step("look", "cookie")]})
    quay.server.seen = []
    done = load(quay, "--users", "5", "--loops", "4", "--on", machines.address)
    assert done.code == 0, done.out + done.err
    started = next(e for e in done.events if e["type"] == "load-started")
    assert [(m["name"], m["processes"]) for m in started["machines"]] == [
        ("quay-1", 1),
        ("quay-2", 1),
    ]
    assert all(0 < m["clock_error"] < 5 for m in started["machines"])
    assert "on quay-1 (1), quay-2 (1); clocks differ by at most " in done.text
    assert count(done.events) == len(samples(done.folder)) == len(quay.server.seen) == 20
    assert {row["user"] for row in samples(done.folder)} == set("01234")
    plan = load(quay, "--users", "1", "--on", machines.address, "--dry-run")
    assert (plan.code, "on quay-1 (1)\n" in plan.out) == (0, True), plan.out + plan.err


@pytest.mark.parametrize("what", ["lost", "interrupted"])
def test_what_was_measured_stays(machines, quay, what):
    flows(quay, {"workflowId": "w", "steps": [step("look", "cookie")]})
    quay.server.seen = []
    command = quay.command(
        "load",
        "--set",
        f"url={quay.url}",
        "--set",
        "token=@token.txt",
        "--users",
        "4",
        "--pause",
        "50ms",
        "--for",
        "6s" if what == "lost" else "10m",
        "--on",
        machines.address,
    )
    run = subprocess.Popen(
        command, cwd=quay.path, env=quay.environment(), stdout=subprocess.PIPE, text=True
    )
    until(lambda: len(quay.server.seen) > 20, run)
    if what == "lost":
        machines.workers["quay-2"].kill()
        machines.workers["quay-2"].wait()
    else:
        run.send_signal(signal.SIGINT)
    output = run.communicate(timeout=120)[0]
    if what == "lost":
        machines.join("quay-2")
        assert run.returncode == 1, output
        assert "lost the connection to machine quay-2" in output
    else:
        assert run.returncode == 130, output
    (folder,) = (quay.path / ".wolfbane" / "runs").iterdir()
    assert count(events(folder)) > 20
