"""Compare every outcome with that of the runtime's own runner, on projects from elsewhere."""

from __future__ import annotations

import argparse
import random
import sys
import time

from benchmarks.strangers.faults import compare_fault, plant, unplant
from benchmarks.strangers.fetching import fetched
from benchmarks.strangers.own import own_outcomes
from benchmarks.strangers.runs import differences, our_outcomes
from benchmarks.strangers.tables import Tree, known_differences, trees

SHOWN = 20


def main() -> int:
    """Print a table of all trees, and what differs; 1 if a difference is not explained."""
    parser = argparse.ArgumentParser(prog="python -m benchmarks.strangers", description=__doc__)
    parser.add_argument("--tree", default="", help="only this tree")
    parser.add_argument("--kind", default="", help="only the trees of this table")
    parser.add_argument("--quick", action="store_true", help="only the quick trees")
    parser.add_argument("--seed", type=int, default=random.randrange(10**6), help="of the order")
    parser.add_argument("--faults", type=int, default=0, help="break this many lines of each tree")
    options = parser.parse_args()
    chosen = {
        title: (kind, tree)
        for title, (kind, tree) in trees(options.kind, options.tree).items()
        if tree.quick or not options.quick
    }
    wrong = 0
    print(
        f"seed {options.seed}\n{'tree':<28} {'tests':>6}  {'own':>7}  {'one job':>7}  differences"
    )
    for title, (kind, tree) in chosen.items():
        if options.faults:
            wrong += _break(title, kind, tree, options.seed, options.faults)
        else:
            wrong += _compare(title, kind, tree, options.seed)
    print(f"{len(chosen)} trees, {wrong} of them with differences that are not explained")
    return 1 if wrong or not chosen else 0


def _compare(title: str, kind: str, tree: Tree, seed: int) -> bool:
    """Print the row of a tree, and what differs; returns whether it is unexplained."""
    try:
        folder = fetched(title, tree)
        began = time.perf_counter()
        own = own_outcomes(kind, tree, folder)
        taken = time.perf_counter() - began
        matches: dict[str, list[str]] = {}
        times = []
        for how in (["-j1"], ["-j4"], ["--order", "random", "--seed", str(seed)]):
            began = time.perf_counter()
            ours = our_outcomes(folder, kind, how)
            times.append(time.perf_counter() - began)
            for message in differences(own, ours):
                matches.setdefault(message, []).append(" ".join(how))
    except (RuntimeError, OSError) as error:
        print(f"{title:<28} {error}", flush=True)
        return True
    left = {message: how for message, how in matches.items() if not _why(tree, message)}
    known = len(matches) - len(left)
    shown = f"{len(left)}" + (f" and {known} explained" if known else "")
    seconds = f"{taken:>6.1f}s  {times[0]:>6.1f}s"
    print(f"{title:<28} {own.total():>6}  {seconds}  {shown}", flush=True)
    for message, how in list(left.items())[:SHOWN]:
        print(f"  {message} ({'; '.join(how)})")
    if len(left) > SHOWN:
        print(f"  and {len(left) - SHOWN} more")
    return bool(left)


def _break(title: str, kind: str, tree: Tree, seed: int, times: int) -> bool:
    """Print a row for each broken line, and what differs; returns whether it is unexplained."""
    draw, wrong = random.Random(f"{seed} {title}"), False
    try:
        folder = fetched(title, tree)
        before = own_outcomes(kind, tree, folder)
        for _ in range(times):
            line = plant(folder, draw)
            try:
                broken, result = compare_fault(kind, tree, folder, before)
            finally:
                unplant(folder)
            left = [message for message in result if not _why(tree, message)]
            print(f"{title:<28} {broken:>6} broken by {line:<46} {len(left)}", flush=True)
            for message in left[:SHOWN]:
                print(f"  {message}")
            wrong |= bool(left)
    except (RuntimeError, OSError) as error:
        print(f"{title:<28} {error}", flush=True)
    return wrong


def _why(tree: Tree, message: str) -> str:
    return next(
        (known.why for known in known_differences(tree) if message.startswith(known.test)), ""
    )


if __name__ == "__main__":
    sys.exit(main())
