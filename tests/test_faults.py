"""A few draws of the campaigns, of which ``make faults`` and ``make services`` make many more."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent


def test_a_fault_costs_nothing_else():
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks.faults", "--seed", "4711", "--count", "6"],
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, f"{done.stdout}{done.stderr}"
    assert "all 6 6" in " ".join(done.stdout.split())


def test_records_equal_the_account_of_a_service():
    done = subprocess.run(
        [
            sys.executable,
            "-m",
            "benchmarks.services",
            "--seed",
            "4730",
            "--count",
            "2",
            "--no-times",
        ],
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, f"{done.stdout}{done.stderr}"
    assert "2 plans" in done.stdout
    assert "0 plans with differences" in done.stdout
