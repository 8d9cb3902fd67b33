"""Workspaces inside of a workspace, run together by their own settings."""

from __future__ import annotations

import json
from textwrap import dedent

import pytest

from conftest import suite

QUAY = """
    [workspace]
    name = "Quay"
    leave_out = "tag:wip"
    timeout = "7s"

    [[tag]]
    name = "slow"
    match = "file:tests/test_a.py and suite:unit"

    [[retry]]
    match = "name:turns"
    times = 1

    [param.crane]
    default = "quay"
    export = "CRANE"

    [service.clock]
    command = ["sh", "-c", "exec sleep 60"]
    ready = { command = ["test", "-e", "here"] }
    folder = "."
"""
SUITES = suite(
    "unit", "python", "tests", import_path=["lib"], needs=["clock"], build=["touch built"]
) + suite("checks", "tap", "t")
UNIT = """
    import os, rates
    def test_a():
        assert os.path.exists("built") and os.environ["CRANE"] == "quay" and rates.RATE == 3
    def test_turns():
        if not os.path.exists("turned"):
            open("turned", "w").close()
            raise ValueError
    def test_sick(): assert 0
    # tags: wip
    def test_wip(): assert 0
"""


@pytest.fixture
def harbour(folder):
    folder.file("wolfbane.toml", '[workspace]\ninclude = ["services/*"]\n')
    folder.file("services/quay/wolfbane.toml", dedent(QUAY) + SUITES)
    folder.file("services/quay/lib/rates.py", "RATE = 3\n")
    folder.file("services/quay/tests/test_a.py", UNIT)
    folder.file("services/quay/t/b.t", "#!/bin/sh\ntest -e here && echo 1..1 && echo ok 1\n")
    folder.file("services/quay/here", "")
    folder.file(
        "services/quay/quarantine.toml",
        "[[quarantined]]\nmatch = 'file:tests/test_a.py and name:sick'\n"
        "because = 'silt'\nsince = 2026-01-01\n",
    )
    folder.file("services/gate/wolfbane.toml", "[workspace]\nname = 'Gate'\n")
    folder.file("services/gate/tests/test_a.py", "def test_gate(): pass\n")
    folder.file("services/gate/tests/test_sick.py", "def test_sick(): pass\n")
    return folder


def test_they_run_together_each_by_its_own_settings(harbour):
    run = harbour.run()
    assert run.outcomes == {
        "services/quay/tests/test_a.py#test_a": "passed",
        "services/quay/tests/test_a.py#test_turns": "flaky",
        "services/quay/tests/test_a.py#test_sick": "failed",
        "services/quay/t/b.t": "passed",
        "services/gate/tests/test_a.py#test_gate": "passed",
        "services/gate/tests/test_sick.py#test_sick": "passed",
    }, run.out + run.err
    assert run.code == 0 and "1 quarantined" in run.out
    chosen = harbour.run("--suite", "services/quay/unit", "--tag", "slow")
    assert {address.partition("#")[0] for address in chosen.outcomes} == {
        "services/quay/tests/test_a.py"
    }
    inner = harbour.run("-w", "services/quay")
    assert inner.outcomes["tests/test_a.py#test_a"] == "passed"
    listed = json.loads(harbour.call("list", "--as", "json").out)
    assert {test["suite"] for test in listed} == {
        "services/quay/unit",
        "services/quay/checks",
        "services/gate/tests",
    }


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ('[workspace]\ninclude = ["servces/*"]\n', "'servces/*' matches no workspace"),
        (
            '[workspace]\ninclude = ["services/*"]\n[param.crane]\ndefault = "yard"\n',
            "services/quay/wolfbane.toml: [param.crane] conflicts with a different definition",
        ),
    ],
)
def test_what_cannot_be_put_together_is_said(harbour, text, message):
    harbour.file("wolfbane.toml", text)
    run = harbour.call("run")
    assert (run.code, message in run.err) == (2, True), run.err
