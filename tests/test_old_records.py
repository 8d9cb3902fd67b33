"""Records that an earlier version wrote can still be read."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from conftest import suite

RECORDS = Path(__file__).parent / "records"


@pytest.fixture
def old(folder):
    head = '[workspace]\nname = "harbour"\n'
    folder.file("wolfbane.toml", head + suite("tides", "python", "tests"))
    folder.file("tests/test_tides.py", "# tags: smoke\ndef test_high(): pass\n")
    shutil.copytree(RECORDS, folder.path / ".wolfbane" / "runs")
    return folder


@pytest.mark.parametrize(
    ("command", "message"),
    [
        (("show",), "2 of 4 tests failed: 1 passed, 2 failed, 1 skipped"),
        (("show", "previous", "--verbose"), "aground"),
        (("compare",), "high and dry"),
        (("history",), "1 passed, 2 failed, 1 skipped"),
        (("runs",), "2 of 4 tests"),
        (("report", "previous", "--as", "tap"), "not ok 4 - t/log.t"),
        (("report", "--as", "html"), "high and dry"),
    ],
)
def test_old_records_open(old, command, message):
    done = old.call(*command)
    assert done.code == 0 and message in done.out, done.out + done.err


def test_a_result_is_read_whole(old):
    done = old.call("report", "previous", "--as", "json")
    results = {each["name"]: each for each in json.loads(done.out)["results"]}
    low = results["Tides / test_low"]
    assert (low["attempt"], low["output"], low["outcome"]) == (2, "low water\n", "failed")
    assert low["earlier"][0]["message"] == "aground"
    assert [part["name"] for part in results["Tides / test_high"]["parts"]] == ["(n=1)", "(n=2)"]
