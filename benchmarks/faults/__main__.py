"""Draw faults, and print a table: how often each kind was drawn, and was right."""

from __future__ import annotations

import argparse
import os
import random
import shutil
import signal
import sys
import tempfile
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from pathlib import Path

from benchmarks.faults.draw import Drawn, draw


def main() -> int:
    """Run the campaign; 1 if anything was wrong."""
    parser = argparse.ArgumentParser(prog="python -m benchmarks.faults", description=__doc__)
    parser.add_argument("--seed", type=int, default=random.randrange(10**6), help="of all draws")
    parser.add_argument("--count", type=int, default=60, help="how many are drawn")
    parser.add_argument("--first", type=int, default=0, help="the number of the first one")
    parser.add_argument("--only", type=int, help="repeat this one, and keep its folder")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1, help="at a time")
    options = parser.parse_args()
    signal.signal(signal.SIGHUP, signal.SIG_DFL)  # what ignores it (nohup) hands that on
    numbers = range(options.first, options.first + options.count)
    if options.only is not None:
        return _alone(options.seed, options.only)
    drawn: list[Drawn] = []
    with ThreadPoolExecutor(options.jobs) as pool:
        for each in pool.map(lambda number: _one(options.seed, number), numbers):
            drawn.append(each)
            for message in each.wrong:
                print(f"draw {each.number}  {each.kind}: {message}", flush=True)
            if each.wrong:
                print(
                    f"  again: python -m benchmarks.faults --seed {options.seed} "
                    f"--only {each.number}",
                    flush=True,
                )
    _table(drawn, options.seed)
    return 1 if any(each.wrong for each in drawn) else 0


def _one(seed: int, number: int) -> Drawn:
    with tempfile.TemporaryDirectory(prefix="faults-", ignore_cleanup_errors=True) as folder:
        return draw(seed, number, Path(folder))


def _alone(seed: int, number: int) -> int:
    folder = Path(tempfile.gettempdir(), f"faults-{seed}-{number}")
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    drawn = draw(seed, number, folder)
    print(drawn.printed)
    for message in drawn.wrong:
        print(f"draw {number}  {drawn.kind}: {message}")
    print(f"{drawn.kind}: {'wrong' if drawn.wrong else 'right'}; its folder is {folder}")
    return 1 if drawn.wrong else 0


def _table(drawn: list[Drawn], seed: int) -> None:
    total = Counter(each.kind for each in drawn)
    right = Counter(each.kind for each in drawn if not each.wrong)
    width = max(map(len, total))
    print(f"\nseed {seed}, {date.today()}\n\n{'fault':<{width}}  drawn  right")
    for kind in sorted(total):
        print(f"{kind:<{width}}  {total[kind]:5}  {right[kind]:5}")
    print(f"{'all':<{width}}  {total.total():5}  {right.total():5}")


if __name__ == "__main__":
    sys.exit(main())
