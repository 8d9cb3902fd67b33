"""The newest outcome and duration of every recorded test, by variant."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from wolfbane.basis.files import read_regular, write_whole
from wolfbane.model import Outcome, Result
from wolfbane.results.json_text import compact, parsed

if TYPE_CHECKING:
    from wolfbane.results.history.entries import TestEnd

NAME = "outcomes.json"


class Known(msgspec.Struct, frozen=True):
    """Newest outcomes, and durations in seconds, by the addresses that a command uses for tests."""

    status: Mapping[str, str] = msgspec.field(default_factory=dict)
    times: Mapping[str, float] = msgspec.field(default_factory=dict)


class _Entry(msgspec.Struct, frozen=True):
    """The last outcome of a variant: ``test`` is its address without the environment.

    ``machine`` is that of a cluster, if it ran on one.
    """

    test: str
    environment: str
    outcome: str
    seconds: float
    machine: str = ""


class Newest:
    """The newest outcome of each test in each of its environments, from all recorded runs."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / NAME
        self._found: dict[str, _Entry] = {}
        with contextlib.suppress(OSError, ValueError, AttributeError, TypeError):
            for variant, values in parsed(read_regular(self._path)).items():
                self._found[variant] = _Entry(*values)

    @property
    def is_empty(self) -> bool:
        """Whether no run was recorded here."""
        return not self._found

    def learn(self, ended: Iterable[TestEnd]) -> None:
        """Know these outcomes, too, without keeping them."""
        for each in ended:
            entry = _Entry(
                test=each.place,
                environment=each.environment,
                outcome=each.outcome,
                seconds=each.seconds,
            )
            self._found[each.address] = entry

    def known(self, environments: Mapping[str, str]) -> Known:
        """The known facts about tests in the environments of a run: their names, by label.

        A run in one environment has no label, so the addresses of its tests have no environment.
        """
        plain = environments.get("")
        status, times = {}, {}
        for variant, entry in self._found.items():
            if entry.environment == plain:
                address = entry.test
            else:
                address = variant
            status[address], times[address] = entry.outcome, entry.seconds
        return Known(status, times)

    def overall(self) -> Known:
        """The known facts about tests in any environment: the worst outcome, and its duration."""
        worst: dict[str, _Entry] = {}
        for entry in self._found.values():
            before = worst.setdefault(entry.test, entry)
            worst[entry.test] = min(before, entry, key=_bad_first)
        status = {address: entry.outcome for address, entry in worst.items()}
        return Known(status, {address: entry.seconds for address, entry in worst.items()})

    def variants(self, address: str) -> dict[str, tuple[str, float]]:
        """The newest outcome and duration of a test, by environment."""
        mine = (entry for entry in self._found.values() if entry.test == address)
        return {entry.environment: (entry.outcome, entry.seconds) for entry in mine}

    def environments(self, wanted: Callable[[str], bool]) -> list[str]:
        """The environments in which the last outcome of a test matches."""
        environments = {e.environment: None for e in self._found.values() if wanted(e.outcome)}
        return list(environments)

    def by_machine(self) -> dict[str, list[str]]:
        """The addresses of the tests that last ran on each machine of a cluster, by its name."""
        addresses: dict[str, list[str]] = {}
        for variant, entry in self._found.items():
            if entry.machine:
                addresses.setdefault(entry.machine, []).extend((variant, entry.test))
        return addresses

    def take_in(self, results: Iterable[Result]) -> None:
        """Add the results of a run, and write the file in one step."""
        for result in results:
            address = ""
            if result.target:
                address = result.address.removesuffix(f" @{result.target}")
            self._found[result.variant] = _Entry(
                test=address or result.address,
                environment=result.environment,
                outcome=str(result.outcome),
                seconds=result.seconds,
                machine=result.machine,
            )
        data = {
            variant: list(msgspec.structs.astuple(entry)) for variant, entry in self._found.items()
        }
        write_whole(self._path, compact(data))


def _bad_first(entry: _Entry) -> tuple[bool, bool]:
    outcome = Outcome(entry.outcome)
    return not outcome.is_bad, outcome is not Outcome.BLOCKED
