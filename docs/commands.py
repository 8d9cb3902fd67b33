"""Write docs/commands.md: the help of every command, as it is printed at 80 columns.

python docs/commands.py
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import click

from wolfbane.cli import root

PAGE = Path(__file__).with_name("commands.md")
HEAD = """# Commands

The help of every command, written by `python docs/commands.py` from the program itself. Options
are in the same groups in every command that has them.
"""


def helps(command: click.Command, context: click.Context) -> Iterator[tuple[str, str]]:
    """The name and the help of a command, then of those inside of it."""
    yield context.command_path, command.get_help(context)
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            assert inner is not None
            yield from helps(inner, click.Context(inner, parent=context, info_name=name))


def page() -> str:
    """The whole page."""
    context = click.Context(
        root, info_name="wolfbane", terminal_width=80, help_option_names=["-h", "--help"]
    )
    parts = [f"## {name}\n\n```text\n{text.rstrip()}\n```\n" for name, text in helps(root, context)]
    return "\n".join([HEAD, *parts])


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
