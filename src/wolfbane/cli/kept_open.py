"""Keeps a browser open until a key is pressed."""

from __future__ import annotations

import asyncio
import os
import sys
import termios
import tty
from collections.abc import Callable

from wolfbane.browsers.run_browsers import KeptOpen
from wolfbane.cli.echo import echo


def wait_for_key(kept: KeptOpen, go_on: Callable[[], None]) -> None:
    """Print which browser is open, and continue when a key is pressed or the input ends."""
    echo(f"\nBrowser '{kept.browser}' stays open after {kept.test}")
    for name, value in (("page", kept.url), ("driver", kept.driver)):
        if value:
            echo(f"  {name:<7} {value}")
    echo("Press any key to close the browser and continue.")
    loop = asyncio.get_running_loop()

    def pressed() -> None:
        loop.remove_reader(sys.stdin)
        os.read(sys.stdin.fileno(), 1 << 10)
        if modes is not None:
            termios.tcsetattr(sys.stdin, termios.TCSADRAIN, modes)
        go_on()

    modes = termios.tcgetattr(sys.stdin) if sys.stdin.isatty() else None
    try:
        if modes is not None:
            tty.setcbreak(sys.stdin)  # keys come at once, and Ctrl-C still interrupts
        loop.add_reader(sys.stdin, pressed)
    except (OSError, TypeError, ValueError):  # a file, which no loop can wait for, or no input
        go_on()
