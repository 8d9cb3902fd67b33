"""Prints to standard output and error, which may be closed or have a limited encoding.

All text is printed without control sequences from names and records.
"""

from __future__ import annotations

import contextlib
import io
import os
import sys
from pathlib import Path

import click

from wolfbane.reports.text import visible, visible_json


def prepare_streams() -> None:
    """Replace characters that the encoding lacks, and discard output to a missing stream."""
    is_closed = sys.stdout is None
    sys.stdout = sys.stdout or _nowhere()
    sys.stderr = sys.stderr or _nowhere()
    if is_closed:
        sys.stderr.write("wolfbane: standard output is closed; no output is shown\n")
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")


def _nowhere() -> io.TextIOWrapper:
    return io.TextIOWrapper(Path(os.devnull).open("wb"), encoding="utf-8")


def leave_standard_output() -> None:
    """Discard the pending output of a stream, which would fail at the program's end."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def echo(text: object = "", *, err: bool = False, nl: bool = True) -> None:
    """Print text for people. A terminal cannot take a part of it for a command."""
    click.echo(visible(str(text)), err=err, nl=nl)


def echo_json(text: str) -> None:
    """Print JSON. Control characters in its strings are escaped."""
    click.echo(visible_json(text))
