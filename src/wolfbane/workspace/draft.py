"""A ``wolfbane.toml`` for what was detected, to be edited."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from pathlib import Path

from wolfbane.kinds.registry import KINDS, find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.workspace.vocabulary import SETTINGS_NAME


def settings_text(root: Path, suites: Sequence[Suite]) -> str:
    """The suites as lines in force, and their other settings as comments."""
    lines = [
        f"# {SETTINGS_NAME}: which suites there are here, and how they are run.",
        "",
        "[workspace]",
        f"name = {_text(root.name)}",
        '# leave_out = "tag:wip"       # kept out of every run until --everything',
        '# timeout = "2m"              # for each test',
        '# results = ".wolfbane"       # where runs are recorded',
    ]
    for suite in suites:
        lines += ["", "[[suite]]", f'name = "{suite.name}"', f'kind = "{suite.kind}"']
        lines += [f"paths = {_list(suite.paths)}", *_live(root, suite)]
        lines += [
            '# tags = ["unit"]             # on each of its tests',
            *find_kind(suite.kind).settings_hints(suite),
        ]
    if not suites:
        lines += ["", "# No test was found here. A suite looks like this:", "#"]
        lines += [
            "# [[suite]]",
            '# name = "tides"',
            f'# kind = "{KINDS[0]}"',
            '# paths = ["tests"]',
        ]
    lines += ["", "# [[tag]]                      # a tag on whatever an expression matches"]
    lines += ['# name = "slow"', '# match = "file:**/pages/**"', ""]
    return "\n".join(lines)


def _live(root: Path, suite: Suite) -> Iterator[str]:
    """What detection worked out besides: these lines say what a run without them would do."""
    if suite.folder != ".":
        yield f"folder = {_text(suite.folder)}             # where its tests run"
    if suite.exclude:
        yield f"exclude = {_list(suite.exclude)}"
    yield from find_kind(suite.kind).settings_lines(root, suite)


def _text(value: str) -> str:
    return json.dumps(value, ensure_ascii=False)


def _list(values: Sequence[str]) -> str:
    return f"[{', '.join(map(_text, values))}]"
