"""Draw launchers, run their tests through a bridge, and compare every verdict with the draw."""

from __future__ import annotations

import argparse
import os
import random
import shutil
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from pathlib import Path
from typing import Any

import msgspec
from benchmarks.launchers.draw import Drawn, draw, reported_name
from benchmarks.launchers.runs import UNCLEAR, outcomes_of
from benchmarks.launchers.written import Written, missing, read_launchers

LIMIT = "1s"
_VERDICTS = {"crash": "crashed", "hang": "timed out"}
_LATER = "although its report is complete"


class Checked(msgspec.Struct, frozen=True):
    """A draw and its differences. ``unclear`` counts the results that cannot be distinguished."""

    number: int
    drawn: Drawn
    wrong: list[str]
    tests: int
    unclear: int
    printed: str = ""


def main() -> int:
    """Run the campaign; 1 if a verdict was wrong."""
    parser = argparse.ArgumentParser(prog="python -m benchmarks.launchers", description=__doc__)
    parser.add_argument("--seed", type=int, default=random.randrange(10**6), help="of all draws")
    parser.add_argument("--count", type=int, default=60, help="how many are drawn")
    parser.add_argument("--only", type=int, help="repeat this one, and keep its folder")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1, help="at a time")
    parser.add_argument("--written", nargs="*", metavar="NAME", help="the written launchers")
    options = parser.parse_args()
    if options.written is not None:
        return written(options.written, options.jobs)
    if options.only is not None:
        folder = Path(tempfile.gettempdir(), f"launcher-{options.seed}-{options.only}")
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir()
        checked = check(options.seed, options.only, folder)
        print(checked.printed, *checked.wrong, f"its folder is {folder}", sep="\n")
        return 1 if checked.wrong else 0

    def one(number: int) -> Checked:
        with tempfile.TemporaryDirectory(prefix="launcher-", ignore_cleanup_errors=True) as path:
            return check(options.seed, number, Path(path))

    done = []
    with ThreadPoolExecutor(options.jobs) as pool:
        for checked in pool.map(one, range(options.count)):
            done.append(checked)
            if checked.wrong:
                print(f"draw {checked.number}  {checked.drawn.in_words}", flush=True)
                print(*(f"  {message}" for message in checked.wrong), sep="\n", flush=True)
    bad = sum(bool(checked.wrong) for checked in done)
    tests, unclear = sum(each.tests for each in done), sum(each.unclear for each in done)
    print(
        f"seed {options.seed}, {date.today()}: {len(done)} launchers, {tests} verdicts, "
        f"{unclear} cannot be distinguished; {bad} launchers with differences"
    )
    return 1 if bad else 0


def written(names: list[str], jobs: int) -> int:
    """Learn and run the written launchers; 1 if a verdict was wrong."""
    launchers = {
        name: each for name, each in read_launchers().items() if name in names or not names
    }
    bad = 0

    def one(name: str) -> tuple[Written, int, list[str]]:
        with tempfile.TemporaryDirectory(prefix="written-", ignore_cleanup_errors=True) as path:
            folder = Path(tempfile.gettempdir(), "written", name) if names else Path(path, name)
            shutil.rmtree(folder, ignore_errors=True)
            folder.mkdir(parents=True)
            each = Written(launchers[name], folder)
            each.lay_out()
            code = each.learn()
            return each, code, list(each.differences()) if code == 0 else []

    able = [name for name in launchers if not missing(launchers[name])]
    with ThreadPoolExecutor(jobs) as pool:
        for name, (each, code, wrong) in zip(able, pool.map(one, able), strict=True):
            bad += bool(code or wrong)
            how = f"not learnt (exit code {code})" if code else f"{len(wrong)} differences"
            print(f"{name:<20} {how}", *(f"  {message}" for message in wrong), sep="\n", flush=True)
            if names or code:
                print(each.printed)
    lacking = [f"{name} ({missing(launchers[name])})" for name in launchers if name not in able]
    edited = [name for name in able if launchers[name].edits]
    print(f"{len(able)} launchers, {bad} with differences")
    print(f"edited after learning: {', '.join(edited) or 'none'}")
    print(f"not installed: {', '.join(lacking) or 'none'}")
    return 1 if bad else 0


def check(seed: int, number: int, folder: Path) -> Checked:
    """Draw one, run it whole and by name, and compare."""
    rng = random.Random(f"{seed}-{number}")
    drawn = draw(rng, folder)
    wrong: list[str] = []
    tests = unclear = 0
    hits = [_address(test) for test in drawn.found]
    some = rng.sample(hits, min(len(hits), 2))
    printed = ""
    for how, asked in (("whole", []), ("again", []), ("by name", some)):
        results, told = outcomes_of(folder, LIMIT, asked)
        printed += told
        wanted = drawn.found if not asked else [t for t in drawn.found if _address(t) in asked]
        for test in wanted:
            result = results.pop(_address(test), None)
            tests += 1
            message = _difference(drawn, test, result)
            unclear += bool(result and UNCLEAR in result["message"])
            wrong += [f"{how}: {_address(test)}: {message}"] if message else []
        warned = "tests that were not found may not have run" in " ".join(told.split())
        needed = not asked and not (warned and _breaks(drawn))
        wrong += [f"{how}: {message}" for message in _others(drawn, results, all_needed=needed)]
    return Checked(number, drawn, wrong, tests, unclear, printed)


def _address(test: dict[str, str]) -> str:
    group = f"{test['group']} / " if test["group"] else ""
    return f"{test['file']}#{group}{test['name']}"


def _difference(drawn: Drawn, test: dict[str, str], result: dict[str, Any] | None) -> str:
    """How a verdict differs from the draw; empty if it does not."""
    if result is None:
        return "it has no result"
    wanted = _VERDICTS.get(test["does"], test["does"])
    if result["outcome"] == wanted:
        return ""
    told = f"{result['outcome']} ({result['message']}) instead of {wanted}"
    if result["outcome"] == "errored" and UNCLEAR in result["message"]:
        return "" if _is_ambiguous(drawn, test) else told
    return told


def _is_ambiguous(drawn: Drawn, test: dict[str, str]) -> bool:
    """Whether nothing in the report and the command says which of several tests it is."""
    name = reported_name(test)
    twins = [each for each in drawn.tests if reported_name(each) == name]
    named = drawn.plan["tells_file"] or drawn.plan["section"]
    broken = any(each["does"] in _VERDICTS for each in twins)  # then there is no report
    return len(twins) > 1 and not (named and not broken) and not drawn.limits_files


def _breaks(drawn: Drawn) -> bool:
    """Whether a test ends the launcher, so that it does not reach the tests after it."""
    return any(test["does"] in _VERDICTS for test in drawn.tests)


def _others(drawn: Drawn, results: dict[str, Any], *, all_needed: bool) -> list[str]:
    """Differences in results that no found test has."""
    wrong = []
    unseen = {test["name"]: test for test in drawn.unseen}
    for address, result in results.items():
        name = address.rpartition("#")[2]
        if _LATER in result["message"] and _breaks(drawn) and not drawn.limits_files:
            continue  # a test of another file with the same name ended the start
        test = unseen.pop(name, None)
        if test is None or result["outcome"] != test["does"]:
            wrong.append(f"{address}: {result['outcome']} ({result['message']}), which nobody has")
    if all_needed:
        wrong += [f"{name}: nobody ran it" for name in unseen]
    return wrong


if __name__ == "__main__":
    sys.exit(main())
