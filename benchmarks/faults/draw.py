"""One draw: a workspace, a fault, and what became of all that the fault is not in."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from benchmarks.faults import around, checks, in_browsers, in_tests, outside
from benchmarks.faults.scene import Scene, Victim, make_scene


@dataclass
class Drawn:
    """A draw: the kind of its fault, what was wrong, and what the run printed."""

    number: int
    kind: str
    wrong: list[str] = field(default_factory=list)
    printed: str = ""


Draw = Callable[[Scene, Path], around.Ended]
IN_TESTS = in_tests.victims()
AROUND: dict[str, Draw] = {
    **{
        name: lambda s, t, i=i: around.run(s, t, interfere=i, formats=s.formats)
        for name, i in around.INTERFERING.items()
    },
    **{name: lambda s, t, b=b: _before(s, t, b) for name, b in around.BEFORE.items()},
    **{name: lambda s, t, n=name: _served(s, t, n) for name in around.SERVICES},
    **{name: lambda s, t, a=add: _added(s, t, a) for name, add in in_browsers.DRAWS.items()},
    **outside.DRAWS,
}


def draw(seed: int, number: int, path: Path) -> Drawn:
    """Carry out one draw; the same seed and number draw the same."""
    rng = random.Random(f"{seed}.{number}")
    kind = rng.choice([*IN_TESTS, *AROUND])
    victim = rng.choice(IN_TESTS[kind]) if kind in IN_TESTS else None
    drawn = Drawn(number, kind)
    folder, temporary = path / "quay", path / "tmp"
    folder.mkdir()
    temporary.mkdir()
    scene = make_scene(folder, rng, victim)
    scene.write()
    try:
        if victim is not None:
            ended = around.run(scene, temporary, formats=scene.formats)
            drawn.kind = f"a test {kind}"
        else:
            ended = AROUND[kind](scene, temporary)
        drawn.printed = f"{victim.body if victim else ''}\n{ended.out}"
        drawn.wrong += _wrong(scene, temporary, ended)
        drawn.wrong += _wrong_next(scene, temporary, victim, cut=ended.cut)
    except AssertionError as error:
        drawn.wrong.append(str(error))
    except Exception as error:
        drawn.wrong.append(f"{type(error).__name__}: {error}")
    return drawn


def _before(scene: Scene, temporary: Path, damage: Callable[[Scene], None]) -> around.Ended:
    """A run, the damage, and the run that is looked at."""
    around.run(scene, temporary)
    damage(scene)
    return around.run(scene, temporary, formats=scene.formats)


def _added(scene: Scene, temporary: Path, add: Callable[[Scene], None]) -> around.Ended:
    """A run of a workspace with a suite that holds the fault."""
    add(scene)
    scene.write()
    return around.run(scene, temporary, formats=scene.formats)


def _served(scene: Scene, temporary: Path, name: str) -> around.Ended:
    around.with_service(scene, name)
    scene.write()
    return around.run(scene, temporary, formats=scene.formats)


def _wrong(scene: Scene, temporary: Path, ended: around.Ended) -> Iterator[str]:
    """Everything that does not hold after the run with the fault."""
    if "Traceback" in ended.out and "/wolfbane/cli" in ended.out:
        yield "a traceback was printed"
    yield from checks.left_behind(scene, temporary, cut=ended.cut)
    yield from checks.told_secrets(scene, ended.out)
    journal = checks.newest_journal(scene)
    if ended.refused:
        if ended.code != 2:
            yield f"exit code {ended.code}, not 2"
        return
    if journal is None:
        if not ended.cut:
            yield f"there is no journal (exit code {ended.code})"
        return
    result = checks.results_of(journal)
    yield from checks.wrong_outcomes(scene, result, whole=not ended.cut)
    bad = {"failed", "errored", "crashed", "timed out"}
    outcomes = [outcome for each in result.values() for outcome in each]
    if not ended.cut:
        blocked = "blocked" in outcomes
        expected = 1 if bad & set(outcomes) else 4 if blocked else 0
        if ended.code != expected:
            yield f"exit code {ended.code}, not {expected}"
    elif ended.code not in (130, 0, 1, -9, -15, -1, -2):
        yield f"exit code {ended.code} of a run that was ended"
    if ended.reports and (not ended.cut or ended.code in (0, 1)):
        yield from checks.wrong_reports(scene, len(outcomes))


def _wrong_next(
    scene: Scene, temporary: Path, victim: Victim | None, *, cut: bool
) -> Iterator[str]:
    """Everything that does not hold of the run after it: of one test, or of all."""
    addresses = [address for address in scene.outcomes if address not in scene.own]
    if victim is not None:
        addresses = [scene.rng.choice(addresses)]
    ended = around.run(scene, temporary, *addresses)
    journal = checks.newest_journal(scene)
    result = checks.results_of(journal) if journal else {}
    for address in addresses:
        got = result.get(address, [])
        if len(got) != 1 or got[0] not in scene.outcomes[address]:
            yield f"the next run: {address}: {', '.join(got) or 'no result'} (exit {ended.code})"
    left = checks.left_behind(scene, temporary, cut=cut)
    yield from (f"after the next run: {message}" for message in left)
