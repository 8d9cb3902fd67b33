"""The fields of the selection language, each declared once.

The grammar, the options, completion, messages and the table in ``docs/selection.md`` read them. A
tag key in use, such as ``owner`` of ``owner=quay``, is a field without a declaration.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from enum import Enum

import msgspec

from wolfbane.model import Test

Texts = Callable[[Test, str], Iterable[str]]
"""The values that a test has in a field. The second argument is its recorded outcome."""


class Matching(Enum):
    """How a value in an expression is compared with those of a test."""

    WORD = "a whole word"
    PART = "a part of the name"
    PATH = "whole path segments, or a glob"
    OUTCOME = "an outcome"
    ADDRESS = "an address, or `PATH:LINE`"
    LOOKED_UP = "looked up before tests are compared"


class Field(msgspec.Struct, frozen=True, kw_only=True):
    """One field.

    ``meaning`` says what its value is. ``help`` is the text of its option; without, it has none.
    ``completed_from`` names the values that a shell completes; ``only_known``: other values are
    errors. ``similar`` are values that a mistyped one is compared with, if ``texts`` do not do.
    """

    name: str
    meaning: str
    example: str
    texts: Texts = lambda test, outcome: ()
    matching: Matching = Matching.WORD
    help: str = ""
    completed_from: str = ""
    only_known: bool = False
    similar: Texts | None = None


def _of_key(key: str) -> Texts:
    return lambda test, outcome: (tag.word for tag in test.tags if tag.key == key)


_DECLARED = (
    Field(
        name="suite",
        meaning="a whole word",
        example="tides",
        texts=lambda test, outcome: (test.suite,),
        help="Select tests of this suite.",
        completed_from="suites",
        only_known=True,
    ),
    Field(
        name="kind",
        meaning="a whole word",
        example="tap",
        texts=lambda test, outcome: (test.kind,),
        help="Select tests of this kind: {kinds}.",
        completed_from="kinds",
        only_known=True,
    ),
    Field(
        name="file",
        meaning="whole path segments, or a glob",
        example="tests/fees",
        texts=lambda test, outcome: (test.path,),
        matching=Matching.PATH,
        help="Select tests in this file, folder or glob.",
        completed_from="files",
        similar=lambda test, outcome: (test.path, test.path.rpartition("/")[2]),
    ),
    Field(
        name="name",
        meaning="a part of the name",
        example="season",
        texts=lambda test, outcome: (test.name or test.path.rpartition("/")[2],),
        matching=Matching.PART,
        help="Select tests whose name contains this text.",
        completed_from="names",
        similar=lambda test, outcome: (
            test.name,
            *re.findall(r"\w+", test.name),
            *test.name.split(" / "),
        ),
    ),
    Field(
        name="tag",
        meaning="a whole word",
        example="smoke",
        texts=lambda test, outcome: (tag.text for tag in test.tags),
        help="Select tests with this tag: smoke, or category=billing.",
        completed_from="tags",
    ),
    Field(
        name="category",
        meaning="the value of the tag `category=billing`",
        example="billing",
        texts=_of_key("category"),
        help="Select tests with the tag category=VALUE.",
    ),
    Field(
        name="team",
        meaning="the value of the tag `team=pilots`",
        example="pilots",
        texts=_of_key("team"),
        help="Select tests with the tag team=VALUE.",
    ),
    Field(
        name="status",
        meaning=(
            "the outcome of the test's newest run, in each environment: `passed`, `flaky`, "
            "`errored`, `timed-out` (`timed out` in reports), `crashed`, `blocked`, `skipped` or "
            "`todo`; `failed` for all that fail a run, `assertion` for failed assertions only; "
            "`new` if the test never ran, `slower` if it was significantly slower"
        ),
        example="failed",
        texts=lambda test, outcome: (outcome,),
        matching=Matching.OUTCOME,
        help="Select tests with this outcome in their newest run: failed, passed, new, ...",
        completed_from="statuses",
        only_known=True,
    ),
    Field(
        name="browser",
        meaning="a whole word",
        example="phone",
        texts=lambda test, outcome: (test.browser,) if test.browser else (),
        help="Select tests that run in this browser; 'all' means every browser.",
        completed_from="browsers",
        only_known=True,
    ),
    Field(
        name="changed",
        meaning="a git revision; see below",
        example="main",
        matching=Matching.LOOKED_UP,
        help="Select tests affected by changes since this git revision.",
        completed_from="revisions",
    ),
    Field(
        name="machine",
        meaning="the [machine of a cluster](machines.md#a-cluster) that the test last ran on",
        example="quay-1",
        matching=Matching.LOOKED_UP,
        completed_from="machines",
    ),
    Field(
        name="address",
        meaning="an address, or `PATH:LINE`",
        example='"PATH#NAME"',
        texts=lambda test, outcome: (test.address,),
        matching=Matching.ADDRESS,
    ),
)
FIELDS = {field.name: field for field in _DECLARED}
OLD_NAMES = {"at": "address"}
"""Names of fields in expressions that were written for earlier versions."""


def field_of(name: str) -> Field:
    """The field with this name: a declared one, or the values of a tag key."""
    declared = FIELDS.get(name)
    return declared or Field(name=name, meaning="a whole word", example="", texts=_of_key(name))
