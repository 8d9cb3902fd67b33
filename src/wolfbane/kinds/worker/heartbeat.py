"""Sends signs of life while a worker is busy with something other than a test."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

from wolfbane.kinds.worker.channel import Channel

INTERVAL = 0.25


@contextmanager
def heartbeat(channel: Channel, text: str) -> Iterator[None]:
    """Report the activity repeatedly, in a thread."""
    over = threading.Event()

    def beat() -> None:
        while True:
            channel.send({"type": "progress", "text": text})
            if over.wait(INTERVAL):
                return

    thread = threading.Thread(target=beat)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()
