"""Writes a ``wolfbane.toml`` for the detected suites, ready for editing."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from pathlib import Path

from wolfbane.kinds.protocols import Detects
from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.vocabulary import SETTINGS_NAME


def settings_text(root: Path, suites: Sequence[Suite]) -> str:
    """The suites as active lines, and their other settings as comments."""
    lines = [
        f"# {SETTINGS_NAME}: the suites of this workspace, and how to run them.",
        "",
        "[workspace]",
        f"name = {_text(root.name)}",
        '# leave_out = "tag:wip"       # excluded from every run, except with --everything',
        '# timeout = "2m"              # for each test',
        '# results = ".wolfbane"       # the folder for recorded runs',
    ]
    for suite in suites:
        kind = find_kind(suite.kind)
        lines += ["", "[[suite]]", f'name = "{suite.name}"', f'kind = "{suite.kind}"']
        lines += [f"paths = {_list(suite.paths)}", *_live(root, suite)]
        lines += [
            '# tags = ["unit"]             # added to each test of the suite',
            *(kind.settings_hints(suite) if isinstance(kind, Detects) else ()),
        ]
    if not suites:
        lines += ["", "# No tests were found here. This is an example of a suite:", "#"]
        lines += [
            "# [[suite]]",
            '# name = "tides"',
            f'# kind = "{KINDS[0]}"',
            '# paths = ["tests"]',
        ]
    lines += [
        "",
        "# [[tag]]                      # adds a tag to all tests that match an expression",
    ]
    lines += ['# name = "slow"', '# match = "file:**/pages/**"', ""]
    return "\n".join(lines)


def _live(root: Path, suite: Suite) -> Iterator[str]:
    """The lines for further detected settings, which a run without them would also use."""
    if suite.folder != ".":
        yield f"folder = {_text(suite.folder)}             # the folder in which its tests run"
    if suite.exclude:
        yield f"exclude = {_list(suite.exclude)}"
    kind = find_kind(suite.kind)
    if isinstance(kind, Detects):
        yield from kind.settings_lines(root, suite)


def _text(value: str) -> str:
    return json.dumps(value, ensure_ascii=False)


def _list(values: Sequence[str]) -> str:
    return f"[{', '.join(map(_text, values))}]"
