"""Runs Wolfbane in a folder, and reads the outcomes."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

UNCLEAR = "cannot be distinguished"


def outcomes_of(
    folder: Path, limit: str, asked: Sequence[str]
) -> tuple[dict[str, dict[str, Any]], str]:
    """The results by address, and the output of the run."""
    command = [
        sys.executable,
        "-m",
        "wolfbane",
        "run",
        "--timeout",
        limit,
        "-j",
        "2",
        "--report",
        "json=report.json",
        *asked,
    ]
    done = subprocess.run(
        command,
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
        timeout=900,
        env={**os.environ, "NO_COLOR": "1", "COLUMNS": "120"},
    )
    report = folder / "report.json"
    results = json.loads(report.read_text(encoding="utf-8"))["results"] if report.exists() else []
    report.unlink(missing_ok=True)
    return {each["address"]: each for each in results}, f"{done.stdout}{done.stderr}"
