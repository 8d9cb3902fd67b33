"""Run the tests that the changes since a revision most likely break.

python -m benchmarks.quick [REVISION]     without REVISION: the changes that are not committed
"""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from benchmarks.rooms import files_for

ROOT = Path(__file__).parent.parent


def changed(revision: str) -> list[str]:
    """The files that differ from a revision, and those that git does not know."""
    paths: list[str] = []
    for arguments in (
        ["diff", "--name-only", revision],
        ["ls-files", "--others", "--exclude-standard"],
    ):
        done = subprocess.run(
            ["git", *arguments], cwd=ROOT, capture_output=True, text=True, check=True
        )
        paths += done.stdout.splitlines()
    return paths


def main() -> int:
    """Run them; returns pytest's exit code."""
    tests = [
        path for path in files_for(changed(*sys.argv[1:2] or ["HEAD"])) if (ROOT / path).exists()
    ]
    print("tests:", *(path.removeprefix("tests/test_").removesuffix(".py") for path in tests))
    command = [sys.executable, "-m", "pytest", "-q", "-n", "4", "--dist", "loadscope", *tests]
    return subprocess.run(command, cwd=ROOT, check=False).returncode


if __name__ == "__main__":
    sys.exit(main())
