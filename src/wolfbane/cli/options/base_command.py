"""The common base of all commands: grouped help, and tag keys as options."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

import click

from wolfbane.cli.options.tag_options import tag_options


class Group(NamedTuple):
    """A group of related options, with example arguments.

    Options of a run define their group themselves, so they are not listed here. A command shows the
    first of the ``examples`` whose options it has.
    """

    title: str
    options: tuple[str, ...]
    examples: tuple[str, ...] = ()


GROUPS = (
    Group(
        "Select tests",
        (
            "--suite",
            "--kind",
            "--file",
            "--name",
            "--tag",
            "--category",
            "--status",
            "--browser",
            "--changed",
            "--pick",
            "--drop",
            "--everything",
            "--preset",
        ),
        ("--tag smoke --suite tides,fees",),
    ),
    Group(
        "Select an environment",
        ("--env", "--set", "--spread", "--workspace"),
        ("--env local --set machine=crane-2",),
    ),
    Group(
        "Run",
        (),
        ("--jobs 4 --timeout 30s --retries 1",),
    ),
    Group(
        "Load",
        (),
        ("--users 10 --ramp 5s --for 30s",),
    ),
    Group(
        "Limits",
        (),
        ("--limit 'p95 < 300ms' --stop-if 'errors > 20%'",),
    ),
    Group(
        "Browsers",
        (),
        ("--browser phone --log protocol --evidence all",),
    ),
    Group(
        "Report",
        ("--quiet", "--verbose"),
        ("--report html=out.html --quiet", "--verbose"),
    ),
    Group(
        "Only show",
        ("--print-command", "--shell"),
        ("--tag smoke --dry-run", "--dry-run"),
    ),
)
"""All other options are listed under ``Other``."""
_NO_LIMIT = 1000
"""Maximum length of a first sentence: it is wrapped, not shortened."""


class Command(click.Command):
    """A command whose help shows its options in groups, each with an example.

    A command with a selection accepts every tag key in use as an option: ``--owner quay``.
    ``examples`` replaces the default examples of some groups, by group title.
    """

    examples: Mapping[str, str] = MappingProxyType({})

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Remove the options for tag keys first, because Click does not know them."""
        if not ctx.resilient_parsing:
            args = tag_options(self, ctx, args)
        return super().parse_args(ctx, args)

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the groups with options of this command, then the other options."""
        rest = {
            name: param
            for param in self.get_params(ctx)
            if isinstance(param, click.Option)
            for name in (next((n for n in param.opts if n.startswith("--")), param.opts[0]),)
        }
        known = frozenset(rest)
        grouped = False
        for group in GROUPS:
            mine = [n for n, o in rest.items() if getattr(o, "group", "") == group.title]
            own = [rest.pop(name) for name in (*mine, *group.options) if name in rest]
            records = [record for option in own if (record := option.get_help_record(ctx))]
            if len(own) < 2:  # one option alone is no group
                rest |= {option.opts[-1]: option for option in own}
            elif records:
                grouped = True
                with formatter.section(group.title):
                    formatter.write_dl(records)
                    if example := _example(ctx, group, known):
                        formatter.write_paragraph()
                        formatter.write_text(example)
        last = [rest[name] for name in ("--workspace", "--help") if name in rest]
        ordered = [*(option for option in rest.values() if option not in last), *last]
        records = [record for option in ordered if (record := option.get_help_record(ctx))]
        with formatter.section("Other" if grouped else "Options"):
            formatter.write_dl(records)


def _example(ctx: click.Context, group: Group, known: frozenset[str]) -> str:
    if any(param.required for param in ctx.command.params):
        return ""
    if isinstance(ctx.command, Command):
        own = ctx.command.examples
    else:
        own = {}
    for arguments in (own[group.title],) if group.title in own else group.examples:
        if {word for word in arguments.split() if word.startswith("--")} <= known:
            return f"{ctx.command_path} {arguments}"
    return ""


class CommandGroup(click.Group):
    """A command that has subcommands."""

    command_class = Command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the subcommands, each with its full first sentence."""
        commands = [(name, self.get_command(ctx, name)) for name in self.list_commands(ctx)]
        with formatter.section("Commands"):
            formatter.write_dl(
                [
                    (name, command.get_short_help_str(_NO_LIMIT))
                    for name, command in commands
                    if command
                ]
            )
