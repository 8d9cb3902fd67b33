"""Checks whether a driver's browser is still running, because some drivers wait for a dead one."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Coroutine
from typing import TypeVar

ENDING = 1.0
"""Seconds between the end of a browser's process and the end of its connection or its last
response.
"""
VANISHED = "the browser process no longer exists"
_STARTING = 5.0
"""Seconds within which a driver starts its browser."""
_LOOK = 0.25
"""Seconds without a response before the browser's process is checked."""

Answer = TypeVar("Answer")


async def answer_or_end(
    sending: Coroutine[None, None, Answer], driver: int, *, started: bool
) -> Answer:
    """The response to a command, or TimeoutError soon after the driver's browser has ended.

    ``driver`` is the driver's process; ``started``: its browser was there before.
    """
    loop = asyncio.get_running_loop()
    began, was_there = loop.time(), started
    timer: asyncio.TimerHandle

    def look() -> None:
        nonlocal timer, was_there
        is_there = _has_children(driver)
        was_there = was_there or is_there or loop.time() - began > _STARTING
        if was_there and not is_there:
            # It ends with its last window, too, and the driver's answer to that follows.
            limit.reschedule(loop.time() + ENDING)
        else:
            timer = loop.call_later(_LOOK, look)

    # A task that is waited for would cost each command two turns of the event loop.
    timer = loop.call_later(_LOOK, look)
    try:
        async with asyncio.timeout(None) as limit:
            return await sending
    finally:
        timer.cancel()


async def ends_within(driver: int, seconds: float) -> bool:
    """Whether a driver's browser has ended, now or within this number of seconds."""
    ends = time.monotonic() + seconds
    while _has_children(driver):
        if time.monotonic() >= ends:
            return False
        await asyncio.sleep(0.01)
    return True


def _has_children(process: int) -> bool:
    import psutil

    try:
        children = psutil.Process(process).children()
        return any(child.status() != psutil.STATUS_ZOMBIE for child in children)
    except psutil.Error:
        return False
