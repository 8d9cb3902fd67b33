"""Write what the program itself knows: docs/commands.md and the table of docs/selection.md.

The first is the help of every command, as it is printed at 80 columns; the second has the fields of
the selection language.

python docs/commands.py
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import click

from wolfbane.cli import root
from wolfbane.selection import FIELDS, Field

PAGE = Path(__file__).with_name("commands.md")
FIELDS_PAGE = Path(__file__).with_name("selection.md")
TABLE_HEAD = "| option | in an expression | the value is |\n|---|---|---|\n"
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


def with_fields(text: str) -> str:
    """The page about the selection language, with a row for each field."""
    before, _, after = text.partition(TABLE_HEAD)
    rest = after.partition("\n\n")[2]
    return f"{before}{TABLE_HEAD}{''.join(map(_row, FIELDS.values()))}\n{rest}"


def _row(field: Field) -> str:
    option = f" `--{field.name} {field.example}`" if field.help else ""
    also = f" or just `{field.example}`" if field.name == "name" else ""
    return f"|{option} | `{field.name}:{field.example}`{also} | {field.meaning} |\n"


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
    text = FIELDS_PAGE.read_text(encoding="utf-8")
    FIELDS_PAGE.write_text(with_fields(text), encoding="utf-8")
