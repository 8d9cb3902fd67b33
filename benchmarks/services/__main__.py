"""Compare the records of runs and loads with the account of random services, request by request."""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks.services.checks import TIMES, load_differences, run_differences
from benchmarks.services.plan import Plan
from benchmarks.services.server import Server

LIMIT = 120.0


def main() -> int:
    """Print the differences of each plan; 1 if there are any."""
    parser = argparse.ArgumentParser(prog="python -m benchmarks.services", description=__doc__)
    parser.add_argument("--count", type=int, default=200, help="number of plans")
    parser.add_argument("--seed", type=int, default=random.randrange(10**6), help="of all plans")
    parser.add_argument("--only", type=int, help="only the plan of this number")
    parser.add_argument("--no-times", action="store_true", help="do not compare times")
    options = parser.parse_args()
    print(f"seed {options.seed}")
    wrong, requests = 0, 0
    numbers = range(options.count) if options.only is None else [options.only]
    for number in numbers:
        plan = Plan(f"{options.seed} {number}")
        matches = []
        for how in ("run", "load"):
            count, differences = compare_plan(plan, how)
            requests += count
            matches += [
                f"{how}: {message}"
                for message in differences
                if not (options.no_times and message.startswith(TIMES))
            ]
        wrong += bool(matches)
        for message in matches:
            print(f"plan {number}: {message}", flush=True)
    print(f"{len(numbers)} plans, {requests} requests, {wrong} plans with differences")
    return 1 if wrong or not requests else 0


def compare_plan(plan: Plan, how: str) -> tuple[int, list[str]]:
    """The number of requests that the server saw, and the differences."""
    with tempfile.TemporaryDirectory() as path, Server(plan.behaviours) as server:
        folder = Path(path)
        plan.write(folder, server.port)
        arguments = ["-j2"] if how == "run" else ["--users", "3", "--loops", "4"]
        said = _wolfbane(how, *arguments, folder=folder)
        check = run_differences if how == "run" else load_differences
        try:
            result = check(folder / ".wolfbane", server.account, plan.closing)
            return len(server.account), list(result)
        except (OSError, ValueError) as error:
            return len(server.account), [f"no record: {error}: {said[-500:]}"]


def _wolfbane(*arguments: str, folder: Path) -> str:
    return subprocess.run(
        [sys.executable, "-m", "wolfbane", *arguments],
        cwd=folder,
        timeout=LIMIT,
        check=False,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        errors="replace",
    ).stdout


if __name__ == "__main__":
    sys.exit(main())
