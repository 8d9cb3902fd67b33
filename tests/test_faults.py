"""Some draws of the campaign of faults; `make faults` draws a thousand."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
SEED = os.environ.get("FAULTS_SEED", "4711")
TOGETHER = 6


@pytest.mark.parametrize("first", range(0, 60, TOGETHER))
def test_a_fault_costs_nothing_else(first):
    numbers = ["--seed", SEED, "--first", str(first), "--count", str(TOGETHER), "--jobs", "2"]
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks.faults", *numbers],
        cwd=ROOT, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, f"{done.stdout}{done.stderr}"
    assert f"all {TOGETHER} {TOGETHER}" in " ".join(done.stdout.split())
