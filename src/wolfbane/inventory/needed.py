"""Tests that run because selected tests need them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from wolfbane.model import Test


def with_needed(chosen: Sequence[Test], known: Iterable[Test]) -> tuple[list[Test], dict[str, str]]:
    """The selected tests, each after the tests that it needs, selected or not; and the address of
    each that was not selected, with that of a test that needs it.
    """
    if not any(test.needs for test in chosen):
        return list(chosen), {}
    by_key = {_key(test): test for test in known}
    asked_for = {_key(test) for test in chosen}
    tests: dict[tuple[str, str, str], Test] = {}
    pulled_in: dict[str, str] = {}

    def put(test: Test) -> None:
        if _key(test) in tests:
            return
        for name in test.needs:
            needed = by_key[test.path, name, test.browser]
            if _key(needed) not in asked_for:
                pulled_in[needed.address] = test.address
            put(needed)
        tests[_key(test)] = test

    for test in chosen:
        put(test)
    return list(tests.values()), pulled_in


def _key(test: Test) -> tuple[str, str, str]:
    return test.path, test.name, test.browser
