"""What steps of scenarios are written with: values, words, attachments, files, the list of them."""

from __future__ import annotations

import json

import pytest
from hypothesis import given as for_any
from hypothesis import strategies as st

from conftest import SUPPORTED
from wolfbane.kinds.scenario.worker.step_patterns import TEXT, Pattern, unquoted
from wolfbane.kinds.scenario.worker.stepbook import StepBook
from wolfbane.steps import Registry

SUITE = '[[suite]]\nname = "rules"\nkind = "scenario"\npaths = ["rules"]\n'
STEPS = """
import enum
from pathlib import Path
from wolfbane.steps import after, attach, given, hole, step, then, when

class Metal(enum.Enum):
    GOLD = "gold"
    SILVER = "silver"

class Mooring:
    def __init__(self, text): self.text = text

hole(Mooring, "M[0-9]+")

@given("a {metal} bell")
def bell(metal: Metal): pass
@given("a boat of {length} metres")
def boat(length: float): pass
@when("it stays {nights} night[s]")
def stays(nights: int): pass
@when("it [is|was] moored at {mooring}")
def moored(mooring: Mooring): pass
@when("the gate is open: {state}")
def gate(state: bool): pass
@then("the log says {words}")
def says(shared, words): shared.words = words
@then('the sign reads "{words}"')
def reads(words: str): print(f"<{words}>")
@then("[the|a|] tide turns[ at {hour}]")
def turns(hour: int = 6): print(f"<{hour}>")
"""


@pytest.fixture
def rules(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file("rules/steps/all.py", STEPS)
    return folder


def ran(folder, *steps, **more):
    """The result of the only scenario, which has these steps."""
    lines = "".join(f"    {step}\n" for step in steps)
    folder.file("rules/a.feature", f"Feature: f\n  Scenario: s\n{lines}")
    [result] = folder.run(**more).results.values()
    return result


@pytest.mark.parametrize(
    ("step", "said"),
    [
        (
            "Given a tin bell",
            "'tin' is not one of gold, silver ({metal}): the step \"a {metal} bell\" of",
        ),
        ("Given a boat of seven or eight metres", "'seven or eight' is not a number ({length})"),
        ("When it stays 1.5 nights", "'1.5' is not a whole number ({nights})"),
        ("When it was moored at quay", "'quay' is not a Mooring (as M[0-9]+) ({mooring})"),
        ("When the gate is open: maybe", "'maybe' is not one of yes, no, true, false, on, off"),
        ("Then the log says all is well", "'all is well' is more than one word; put it in quotes"),
    ],
)
def test_a_value_that_does_not_fit_its_hole_is_an_error_that_says_so(rules, step, said):
    result = ran(rules, step)
    assert (result["outcome"], said in result["message"]) == ("errored", True), result["message"]
    assert "rules/steps/all.py:" in result["message"]
    assert result["frames"][0]["line"] == 3


@pytest.mark.parametrize(
    ("step", "nearest"),
    [
        (
            "Given a boat of 8 meters",
            '# the closest step is "a boat of {length} metres", rules/steps/all',
        ),
        ("Then it stays 2 nights", "defines it for when"),
        ("Given an albatross", 'not defined. Add these definitions:\n\n@given("an albatross")'),
    ],
)
def test_an_undefined_step_names_the_nearest_one(rules, step, nearest):
    result = ran(rules, step)
    assert (result["outcome"], nearest in result["message"]) == ("blocked", True)


def test_quotes_choices_and_words_that_may_be_left_out(rules):
    result = ran(
        rules,
        'Given a "gold" bell',
        "When it stays 1 night",
        "When it stays '2' nights",
        'Then the sign reads "a \\"b\\" c"',
        "Then the sign reads 'd \"e\"'",
        "Then the tide turns at 4",
        "Then a tide turns",
        "When it is moored at M7",
    )
    assert result["outcome"] == "passed", result["message"]
    assert result["output"] == '<a "b" c>\n<d "e">\n<4>\n<6>\n'


@pytest.mark.parametrize(
    ("pattern", "said"),
    [
        ("a [big boat", "a '[' without a ']' after it"),
        ("a big] boat", "a ']' without a '['"),
        ("a {x} and {x}", "the placeholder 'x' appears twice"),
        ("a[ {x}]", "parameter 'x' needs a default"),
    ],
)
def test_a_pattern_that_cannot_be_read_is_named_by_its_place(rules, pattern, said):
    text = f"from wolfbane.steps import given\n@given('{pattern}')\ndef f(x): pass\n"
    rules.file("rules/steps/bad.py", text)
    result = ran(rules, "Given a gold bell")
    assert said in result["message"] and result["frames"][-1]["file"] == "rules/steps/bad.py"


@for_any(st.text(st.characters(blacklist_categories=("Cs",)), max_size=20))
def test_any_text_in_quotes_comes_back(text):
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    pattern = Pattern("it says {words} twice", lambda name: TEXT)
    match = pattern.regex.fullmatch(f'it says "{escaped}" twice')
    if "\n" not in text and "\r" not in text and len(text.splitlines()) < 2:
        assert match and pattern.values(match) == {"words": text}
    assert unquoted(f'"{escaped}"') == text


def _steps_of(*patterns):
    registry = Registry()
    for pattern in patterns:
        registry.steps.append(("", pattern, lambda *, message="": message))
    return StepBook(registry)


@for_any(st.text(alphabet="ab {}[]|\\\"'", max_size=12))
def test_any_pattern_is_read_or_refused_in_one_way(text):
    from wolfbane.kinds.scenario.worker.stepbook import BadStep

    try:
        _steps_of(text).find("given", "a b")
    except BadStep as error:
        assert str(error)


ATTACHING = """
from pathlib import Path
from wolfbane.steps import attach, given, before
@before("scenario")
def first(): attach("before", "hook.txt")
@given("a picture")
def picture(): attach(bytes.fromhex("89504e470d0a1a0a"), "gauge")
@given("a note")
def note(): attach("the word is hush-2024", "note")
@given("a file")
def file(): attach(Path(__file__).with_name("tide.csv"))
@given("nothing")
def nothing(): attach(Path("missing.txt"))
"""


@pytest.mark.parametrize("python", SUPPORTED[:1] + SUPPORTED[-1:])
def test_steps_attach_pictures_texts_and_files(folder, python):
    secret = '[param.word]\nsecret = true\n[env.local]\nword = "hush-2024"\n'
    head = '[workspace]\nenv = "local"\n'
    folder.file("wolfbane.toml", f'{head}{SUITE}python = "{python}"\n{secret}')
    folder.file("rules/steps/all.py", ATTACHING)
    folder.file("rules/steps/tide.csv", "6,1.2\n")
    result = ran(folder, "Given a picture", "Given a note", "Given a file")
    kept = [(e["name"], e["kind"], e["part"]) for e in result["evidence"]]
    assert kept == [
        ("hook.txt", "txt", 0),
        ("gauge", "png", 1),
        ("note", "txt", 2),
        ("tide.csv", "csv", 3),
    ]
    [run] = (folder.path / ".wolfbane" / "runs").iterdir()
    texts = [(run / e["path"]).read_bytes() for e in result["evidence"]]
    assert texts[1].startswith(b"\x89PNG") and texts[3] == b"6,1.2\n"
    assert texts[2] == b"the word is *****"
    shown = folder.call("show", "last", "--verbose").out
    assert "passed  Given a note\n    attached  note  .wolfbane/runs/" in shown
    missing = ran(folder, "Given a picture", "Given nothing")
    assert "missing.txt" in missing["message"]
    failed = folder.call("show", "last").text
    assert "gauge, attached by: Given a picture" in failed


def test_steps_in_subfolders_and_steps_that_import_each_other(folder):
    folder.file("wolfbane.toml", SUITE)
    message = "from wolfbane.steps import given\n@given('{0}')\ndef f(): assert 'x' == '{0}'\n"
    folder.file("rules/steps/z_words.py", message.format("zed"))
    folder.file("rules/steps/berths.py", "import z_words\n" + message.format("berth"))
    folder.file("rules/steps/deep/down.py", message.format("down"))
    folder.file("berths/__init__.py", "raise RuntimeError('another module of this name')\n")
    for text in ("zed", "berth", "down"):
        result = ran(folder, f"Given {text}")
        assert result["outcome"] == "failed" and f"'{text}'" in result["message"]


def test_the_steps_of_a_suite_are_listed_with_their_uses(rules):
    rules.file(
        "rules/a.feature",
        """
        Feature: f
          Background:
            Given a gold bell
          Scenario: one
            When it stays 1 night
            Then nobody knows
          Scenario Outline: two
            Given a boat of <n> metres
            Examples:
              | n |
              | 1 |
              | 2 |
    """,
    )
    rules.file(
        "rules/steps/more.py",
        (
            "from wolfbane.steps import given\n@given('a boat of {length} meters')\n"
            "def boat(length): pass\n"
        ),
    )
    told = json.loads(rules.call("steps", "--as", "json").out)
    used = {each["pattern"]: each["used"] for each in told["steps"]}
    assert used["a {metal} bell"] == 1 and used["a boat of {length} metres"] == 2
    assert used["it stays {nights} night[s]"] == 1 and used["the log says {words}"] == 0
    boat = next(each for each in told["steps"] if each["function"] == "boat")
    assert (boat["kind"], boat["file"]) == ("given", "rules/steps/all.py")
    assert boat["uses"][0] == {"file": "rules/a.feature", "line": 8, "text": "a boat of 1 metres"}
    assert [use["text"] for use in told["undefined"]] == ["nobody knows"]
    [[one, other]] = told["near_duplicates"]
    assert one.startswith("rules/steps/all.py:") and other == "rules/steps/more.py:2"
    table = rules.call("steps").out
    assert "near duplicates: 'a boat of {length} metres'" in table
    assert "undefined step: nobody knows (rules/a.feature:6)" in table
    unused = rules.call("steps", "--unused", COLUMNS="200").out
    assert "a boat of {length} meters" in unused and "metres" not in unused
    explained = rules.call("explain", "two / 2").text
    assert "Given a boat of 2 metres boat in rules/steps/all.py:" in explained
    rules.file("rules/steps/bad.py", "import nothing_of_this_name\n")
    bad = rules.call("steps")
    assert (bad.code, "suite rules: cannot load the steps" in bad.err) == (2, True)
    assert rules.call("steps", "--suite", "rulez").code == 2
