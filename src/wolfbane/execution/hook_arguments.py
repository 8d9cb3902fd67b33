"""The arguments to rerun the tests around a hook. A hook cannot be selected by itself."""

from __future__ import annotations

from msgspec.structs import replace

from wolfbane.model import NESTED, Test
from wolfbane.planning.plan import Batch


def arguments_around(hook: Test, batch: Batch) -> tuple[str, ...]:
    """Arguments that select the tests around a hook: its class or group, file or suite.

    None if the result belongs to a test of the batch, which can be selected by its address.
    """
    others = [other.name for other in batch.tests if other.path == hook.path]
    browser = ("--browser", hook.browser) if hook.browser else ()
    for name in (hook.name, *hook.ancestors):
        if any(other == name or other.startswith(f"{name}{NESTED}") for other in others):
            group = replace(hook, name=name).address
            return () if name == hook.name else (group,)
    if others:
        return (hook.path, *browser)
    return ("--suite", hook.suite, *browser)
