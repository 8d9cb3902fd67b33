"""Prints all text for people and programs, without control sequences from names and records."""

from __future__ import annotations

import click

from wolfbane.reports.text import visible, visible_json


def echo(text: object = "", *, err: bool = False, nl: bool = True) -> None:
    """Print text for people. A terminal cannot take a part of it for a command."""
    click.echo(visible(str(text)), err=err, nl=nl)


def echo_json(text: str) -> None:
    """Print JSON. Control characters in its strings are escaped."""
    click.echo(visible_json(text))
