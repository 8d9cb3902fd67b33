"""Every kind feels the same: one table in ``docs/kinds.md``, and a run of every cell of it."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec
import pytest

from conftest import present, suite

KINDS = Path(__file__).parent.parent / "docs" / "kinds.md"


class Sample(msgspec.Struct, frozen=True):
    """A suite of one kind, with what its tests are called."""

    files: dict[str, str]
    high: str
    low: str
    hang: str
    place: str
    crash: str = ""
    own_tag: str = ""
    needs: str = ""
    settings: str = ""


SAMPLES = msgspec.toml.decode(
    Path(__file__).with_name("samples.toml").read_bytes(), type=dict[str, Sample]
)
ALL = tuple(SAMPLES)
OWN_CODE = tuple(kind for kind, sample in SAMPLES.items() if sample.crash)
CELLS = {
    "`list`, without starting a worker": ALL,
    "`explain`": ALL,
    "`--dry-run`": ALL,
    "`FILE:LINE`": ALL,
    "address of one test": ALL,
    "tag in a comment": ALL,
    "tag in the kind's own syntax": tuple(
        kind for kind, sample in SAMPLES.items() if sample.own_tag
    ),
    "output stored with its test": OWN_CODE,
    "`--timeout` ends one test": ALL,
    "a crash affects only one test": OWN_CODE,
    "`--stop-after`": ALL,
}


@pytest.fixture(params=SAMPLES)
def tide(request, folder):
    sample = SAMPLES[request.param]
    if sample.needs and not present(sample.needs):
        pytest.skip(f"there is no {sample.needs} here")
    folder.file("wolfbane.toml", suite("tide", request.param, "t") + sample.settings)
    for name, text in sample.files.items():
        folder.file(name, text, 0o755)
    folder.sample = sample
    return folder


def test_the_table_says_what_is_run_here():
    lines = KINDS.read_text(encoding="utf-8").splitlines()
    rows = [[cell.strip() for cell in line.split("|")[1:-1]] for line in lines if line[:1] == "|"]
    heads = rows[0][1:]
    table = {
        feature: tuple(kind for kind, cell in zip(heads, cells) if cell == "yes")
        for feature, *cells in rows[1:]
        if feature in CELLS
    }
    assert heads == list(ALL)
    assert table == CELLS


def test_choosing(tide):
    sample = tide.sample
    listed = {row["address"]: row for row in json.loads(tide.call("list", "--as", "json").out)}
    assert {sample.high, sample.low, sample.hang, sample.crash} - {""} <= set(listed)
    assert all(row["line"] for row in listed.values())
    assert listed[sample.high]["tags"][0] in ("smoke", sample.own_tag)
    explained = tide.call("explain", sample.high, "--tag", "smoke").out
    assert "verdict    selected" in explained and "smoke" in explained
    planned = tide.call("run", "--dry-run", "--tag", "smoke").out
    assert sample.high in planned.splitlines() and sample.low not in planned
    assert tide.run(sample.place).outcomes == {sample.high: "passed"}
    assert list(tide.run(sample.low).outcomes) == [sample.low]
    if sample.own_tag:
        assert len(tide.run("--tag", sample.own_tag).outcomes) == 1


def test_running(tide):
    sample = tide.sample
    run = tide.run("--timeout", "2.5s")
    low = run.results[sample.low]
    assert low["outcome"] in ("failed", "errored")
    assert "low water" in low["output" if sample.crash else "message"]
    assert run.outcomes[sample.high] == "passed"
    assert run.outcomes[sample.hang] == "timed out"
    assert run.outcomes.get(sample.crash, "crashed") == "crashed"
    assert run.code == 1


def test_stopping(tide):
    low = tide.sample.low
    other = tide.sample.crash or tide.sample.hang
    run = tide.run(low, other, "-j1", "--stop-after", "1", "--timeout", "2.5s")
    assert len(run.outcomes) == 1 and "stopped after 1" in run.text
