"""The steps of scenario suites as a table or JSON."""

from __future__ import annotations

import difflib
import json
import re
from collections.abc import Iterator, Sequence

from msgspec import to_builtins

from wolfbane.kinds.steps import StepDefinition, StepListing
from wolfbane.reports.console.layout import Column
from wolfbane.reports.text import visible

_ALIKE = 0.85
"""The share of common characters from which two patterns are near duplicates."""
_HOLE = re.compile(r"[\"']?\{\w*\}[\"']?")


def step_table(definitions: Sequence[StepDefinition]) -> list[Column]:
    """A row for each definition."""
    first = [each.uses[0] if each.uses else None for each in definitions]
    return [
        Column("used", [str(len(each.uses)) for each in definitions], right=True),
        Column("kind", [each.kind or "any" for each in definitions]),
        Column("step", [visible(each.pattern) for each in definitions], wraps=True),
        Column("defined in", [visible(each.location) for each in definitions], 1),
        Column("first use", [f"{use.file}:{use.line}" if use else "-" for use in first], 2),
    ]


def near_duplicates(
    definitions: Sequence[StepDefinition],
) -> Iterator[tuple[StepDefinition, StepDefinition]]:
    """Pairs of definitions in one suite that are near duplicates."""
    texts = [_HOLE.sub("{}", each.pattern).lower() for each in definitions]
    matcher = difflib.SequenceMatcher(autojunk=False)
    for index, one in enumerate(definitions):
        matcher.set_seq2(texts[index])
        for number in range(index + 1, len(definitions)):
            other = definitions[number]
            any_kind = one.kind == other.kind or "" in (one.kind, other.kind)
            if one.suite == other.suite and any_kind:
                matcher.set_seq1(texts[number])
                # The quick ones are upper bounds: most pairs need no more.
                ratios = (matcher.real_quick_ratio, matcher.quick_ratio, matcher.ratio)
                if all(ratio() >= _ALIKE for ratio in ratios):
                    yield one, other


def as_json(definitions: Sequence[StepDefinition], listing: StepListing) -> str:
    """An object: the definitions with their uses, near duplicates, and undefined steps."""
    data = {
        "steps": [{**to_builtins(each), "used": len(each.uses)} for each in definitions],
        "near_duplicates": [
            [a.location, b.location] for a, b in near_duplicates(listing.definitions)
        ],
        "undefined": [to_builtins(use) for use in listing.undefined],
    }
    return json.dumps(data, indent=1, ensure_ascii=False)
