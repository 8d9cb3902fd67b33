"""The ``wolfbane`` command. ``python -m wolfbane`` does the same."""

import gc
import os
import signal
import sys
from types import FrameType

_INTERRUPTED = 128 + signal.SIGINT
_OBJECTS_BEFORE_A_LOOK = 50_000
"""Number of new objects before the garbage collector looks for cycles (Python's default: 700)."""


def main() -> None:
    """Run the command. An interrupt ends it without a traceback, even while it is loading."""
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, _interrupt)
    # Imports make many objects and no garbage: looking for some would be a tenth of a small run.
    gc.set_threshold(_OBJECTS_BEFORE_A_LOOK)
    try:
        from wolfbane.cli import main as run

        run()
    except KeyboardInterrupt:
        sys.exit(_INTERRUPTED)
    finally:
        gc.freeze()  # else the end looks through all objects: a fifth of a small run


def _interrupt(number: int, frame: FrameType | None) -> None:
    """Raise KeyboardInterrupt, but end the process immediately during an import.

    The import system's own callbacks swallow exceptions: the interrupt would be lost.
    """
    while frame is not None:
        if frame.f_code.co_filename.startswith("<frozen importlib"):
            os._exit(_INTERRUPTED)
        frame = frame.f_back
    raise KeyboardInterrupt


if __name__ == "__main__":
    main()
