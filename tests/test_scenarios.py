"""Suites of kind scenario: feature files and the steps behind them."""

from __future__ import annotations

import json
import textwrap

import pytest
from hypothesis import given as for_any
from hypothesis import strategies as st

from conftest import SUPPORTED
from wolfbane.kinds.scenario.worker.feature import FeatureError, read
from wolfbane.kinds.scenario.worker.keywords import KEYWORDS

SUITE = '[[suite]]\nname = "rules"\nkind = "scenario"\npaths = ["rules"]\n'
FEATURE = """
@harbour
Feature: Berths
  What a boat has to know.

  Background:
    Given the harbour is open

  # tags: owner=quay
  @smoke
  Scenario: A small boat
    Given a boat of 8.5 metres
    When it stays 2 nights
    Then it pays 51 crowns
    But not 50 crowns

  Scenario: Nobody knows
    Given a boat of 8 metres
    When the "night watch" sees 2 boats
    Then nobody cares

  Scenario: Two know
    Given a buoy

  Scenario Outline: Fee of <metres> m
    Given a boat of <metres> metres
    When it stays <nights> nights
    Then it pays <fee> crowns

    @night
    Examples: short
      | metres | nights | fee |
      | 8      | 1      | 24  |
    Examples: long
      | metres | nights | fee |
      | 10     | 2      | 61  |

  Rule: Papers
    Scenario: A list
      Given these boats
        | name | length |
        | Alda | 8      |
      And this note
        \"\"\"
        first
          second
        \"\"\"
    Scenario: In winter
      Given it is winter
      Then it pays 1 crowns
"""
STEPS = """
import re
from wolfbane.steps import after, before, given, skip, step, then, when

@before("scenario")
def start(scenario): print("start", scenario.name)
@after("scenario", tag="smoke")
def end(scenario): print("end", scenario.outcome)
@before("run")
def price(shared): shared.price = 3
@given("the harbour is open")
def is_open(shared): shared.open = True
@given("a boat of {length} metres")
def boat(shared, length: float): shared.length = length
@when("it stays {nights} nights")
async def stay(shared, nights: int): shared.fee = shared.length * nights * shared.price
@then("it pays {fee} crowns")
def pays(shared, fee: float): assert shared.fee == fee
@then(re.compile("not (?P<fee>[0-9]+) crowns"))
def pays_not(shared, fee: int): assert shared.fee != fee
@given("a buoy")
def buoy(): pass
@step("a {thing}")
def some(thing): pass
@given("these boats")
def boats(table): assert table.records == [{"name": "Alda", "length": "8"}]
@given("this note")
def note(text): assert text == "first\\n  second"
@given("it is winter")
def winter(): skip("frozen")
"""


@pytest.fixture
def rules(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file("rules/berths.feature", FEATURE)
    folder.file("rules/steps/boats.py", STEPS)
    return folder


def named(run):
    return {address.partition("#")[2]: o for address, o in run.outcomes.items()}


@pytest.mark.parametrize("python", SUPPORTED)
def test_every_outcome_and_what_is_told_of_it(rules, python):
    rules.file("wolfbane.toml", f'{SUITE}python = "{python}"\n')
    run = rules.run()
    assert named(run) == {
        "A small boat": "passed",
        "Nobody knows": "blocked",
        "Two know": "errored",
        "Fee of <metres> m / Fee of 8 m": "passed",
        "Fee of <metres> m / Fee of 10 m": "failed",
        "Papers / A list": "passed",
        "Papers / In winter": "skipped",
    }
    assert run.code == 1
    results = {r["name"]: r for r in run.results.values()}
    small = results["A small boat"]
    assert small["output"] == "start A small boat\nend passed\n"
    assert [(p["name"], p["line"]) for p in small["parts"]][:2] == [
        ("Given the harbour is open", 6),
        ("Given a boat of 8.5 metres", 11),
    ]
    fee = results["Fee of <metres> m / Fee of 10 m"]
    assert "shared.fee = 60.0" in fee["message"] and "Then it pays 61 crowns" in fee["message"]
    assert [p["outcome"] for p in fee["parts"]] == ["passed"] * 3 + ["failed"]
    assert fee["frames"][-1]["file"] == "rules/steps/boats.py"
    twice = results["Two know"]["message"]
    assert twice.count("rules/steps/boats.py:") == 2
    assert results["Papers / In winter"]["message"] == "frozen"


def test_what_is_printed_for_an_undefined_step_can_be_pasted(rules):
    message = rules.run("--name", "nobody knows").results["rules/berths.feature#Nobody knows"][
        "message"
    ]
    code = message.partition("\n")[2].replace("raise NotImplementedError", "pass")
    rules.file("rules/steps/more.py", "from wolfbane.steps import then, when\n" + code)
    assert rules.run("--name", "nobody knows").code == 0


def test_selection(rules):
    def chosen(*arguments):
        rows = json.loads(rules.call("list", "--as", "json", *arguments).out)
        return [row["name"] for row in rows]

    assert chosen("--tag", "smoke", "--pick", "owner:quay and tag:harbour") == ["A small boat"]
    assert chosen("--tag", "night") == ["Fee of <metres> m / Fee of 8 m"]
    assert chosen("rules/berths.feature:27") == [
        "Fee of <metres> m / Fee of 8 m",
        "Fee of <metres> m / Fee of 10 m",
    ]
    row = "rules/berths.feature#Fee of <metres> m / Fee of 8 m"
    assert list(rules.run(row).outcomes) == [row]


def test_closing_hooks_that_fail_are_entries_of_their_own(rules):
    rules.file(
        "rules/steps/closing.py",
        """
        from wolfbane.steps import after
        @after("feature")
        def tidy(): raise ValueError("not tidy")
        @after("run")
        def over(): print("closing"); raise ValueError("not over")
        """,
    )
    run = rules.run("--tag", "smoke")
    assert named(run) == {
        "A small boat": "passed",
        "after feature": "errored",
        "after run": "errored",
    }
    assert run.results["rules/steps#after run"]["output"] == "closing\n"


@pytest.mark.parametrize(
    ("steps", "said"),
    [
        ("def broken(:", "SyntaxError"),
        ("from wolfbane.steps import given\n@given('a {x}')\ndef f(y): pass", "parameter 'y'"),
        ("from wolfbane.steps import before\nbefore('tide')", "scenario, feature, run"),
    ],
)
def test_steps_that_cannot_be_loaded(rules, steps, said):
    rules.file("rules/steps/bad.py", steps)
    run = rules.run("--tag", "smoke")
    (result,) = run.results.values()
    assert result["outcome"] == "errored" and said in result["message"]
    assert result["frames"][-1]["file"] == "rules/steps/bad.py"


FATAL = {
    "Scenario: x": (1, "'Feature:' must be the first line"),
    "# language: xx\nFeature: x": (1, "unknown language 'xx'"),
    "nothing": (1, "cannot read 'nothing'"),
    "": (1, "the file has no 'Feature:' line"),
    "Feature: x\nFeature: y": (2, "a file can have only one feature"),
    "Feature: x\nBackground:\n Given a\nBackground:\n Given b": (4, "already has a background"),
}


@pytest.mark.parametrize("source", FATAL)
def test_what_costs_the_whole_file_is_named_by_line(source):
    line, said = FATAL[source]
    with pytest.raises(FeatureError) as caught:
        read(source)
    assert said in str(caught.value) and caught.value.line == line


WRONG = {
    "Scenario: y\n  Givven z": (3, "did you mean 'Given'?"),
    "Scenaro: y\n  Given z": (2, "did you mean 'Scenario:'?"),
    "Scenaro: y\n  What it is for.\n  Given z": (2, "did you mean 'Scenario:'?"),
    "Scenario: y\n  Given z\n  | a |\n  | 1 | 2 |": (5, "2 cells, but the first row has 1"),
    "Scenario: y\n  Given z\n  | a": (4, "a table row must end with |"),
    'Scenario: y\n  Given z\n  """\n  text': (4, 'no closing """'),
    "Scenario Outline: y\n Given <lenght>\n Examples:\n |length|\n |1|": (
        3,
        "did you mean <length>?",
    ),
    "@a b\nScenario: y\n  Given z": (2, "each tag must start with @"),
    "Scenario: y\n  Given": (3, "'Given' must be followed by text"),
    "Examples:\n | a |": (2, "examples must be below an outline"),
}


@pytest.mark.parametrize("source", WRONG)
def test_what_is_wrong_costs_its_own_scenario(folder, source):
    line, said = WRONG[source]
    folder.file("wolfbane.toml", SUITE)
    folder.file("rules/steps/all.py", "from wolfbane.steps import step\n@step('z')\ndef z(): 0\n")
    folder.file("rules/a.feature", f"Feature: x\n{source}\n\nScenario: good\n  Given z\n")
    run = folder.run()
    outcomes = named(run)
    assert outcomes.pop("good") == "passed" and list(outcomes.values()) == ["errored"]
    [wrong] = [result for result in run.results.values() if result["name"] != "good"]
    assert said in wrong["message"] and wrong["frames"][0]["line"] == line


def test_what_is_wrong_above_all_scenarios_costs_them_all(rules):
    text = FEATURE.replace("Given the harbour is open", "Givven the harbour is open")
    rules.file("rules/berths.feature", text)
    assert set(named(rules.run()).values()) == {"errored"}


def test_descriptions_and_outlines_without_rows(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file("rules/steps/all.py", "from wolfbane.steps import step\n@step('z')\ndef z(): 0\n")
    folder.file(
        "rules/a.feature",
        """
        Business Need: what a harbour is for
          * boats
          Given names are in quotes, as everywhere.
          Rules: see below
          Rule: one
            When in doubt, ask.
            * twice
            Scenario Outline: of <n>
              Free text.
              Given z
              Examples: some
                Given here is no step, either.
                * nor here
                | n |
                | 1 |
        Scenario Outline: later
          Given z
          Examples:
            | n |
    """,
    )
    run = folder.run()
    assert named(run) == {"one / of <n> / of 1": "passed"}
    message = "rules/a.feature:16: 'later' has no rows of examples, so it gives no tests"
    assert message in run.out and message in folder.call("list").err
    [[feature, rule, outline]] = [r["about"] for r in run.results.values()]
    assert feature[0] == "Business Need: what a harbour is for"
    assert (
        feature[1].startswith("* boats\nGiven names") and rule[1] == "When in doubt, ask.\n* twice"
    )
    assert outline[1].startswith("Free text.\nGiven here")


def test_rows_are_chosen_by_their_table_and_keep_their_addresses(folder):
    def write(*rows):
        lines = "".join(f"    {row}\n" for row in rows)
        folder.file(
            "rules/a.feature",
            (
                "Feature: f\n Scenario Outline: fee of <metres> m\n  Given <metres> <nights>\n"
                f"  Examples: one\n    | metres | nights |\n{lines}"
                "  @late\n  Examples: two\n    | metres | nights |\n    | 9 | 9 |\n"
            ),
        )

    def chosen(*arguments):
        rows = json.loads(folder.call("list", "--as", "json", *arguments).out)
        return [row["name"].rpartition(" / ")[2] for row in rows]

    folder.file("wolfbane.toml", SUITE)
    write("| 8 | 1 |", "| 8 | 2 |", "| 7 | 1 |")
    assert chosen() == ["fee of 8 m (8, 1)", "fee of 8 m (8, 2)", "fee of 7 m", "fee of 9 m"]
    assert chosen("rules/a.feature:4") == chosen()[:3] == chosen("rules/a.feature:5")
    assert chosen("rules/a.feature:9") == ["fee of 9 m"] == chosen("rules/a.feature:10")
    assert chosen("rules/a.feature:7") == ["fee of 8 m (8, 2)"]
    before = set(chosen())
    write("| 6 | 1 |", "| 8 | 3 |", "| 8 | 1 |", "| 8 | 2 |", "| 7 | 1 |")
    assert before < set(chosen())


@pytest.mark.parametrize("language", KEYWORDS)
def test_every_keyword_of_every_language(language):
    message = KEYWORDS[language]
    joint = "" if message.get("joined") else " "
    for feature in message["feature"]:
        for outline in message["outline"]:
            source = f"# language: {language}\n{feature}: tide\n{message['background'][0]}:\n"
            source += (
                f"  {message['given'][0]}{joint}water\n{message['rule'][0]}: r\n{outline}: o\n"
            )
            source += "".join(
                f"  {w}{'' if w.endswith(chr(39)) else joint}<n>\n"
                for kind in ("given", "when", "then")
                for w in message[kind]
            )
            source += (
                f"  {message['and'][0]}{joint}<n>\n{message['examples'][0]}:\n | n |\n | 1 |\n"
            )
            (scenario,) = read(source).scenarios
            kinds = [step.kind for step in scenario.steps]
            expected = [kind for kind in ("given", "when", "then") for _ in message[kind]]
            assert kinds == ["given", *expected, "then"]
            assert {step.text for step in scenario.steps} == {"water", "1"}
            assert scenario.name == "r / o / 1"
    for word in message["scenario"]:
        assert read(f"# language: {language}\n{message['feature'][0]}: t\n{word}: s").scenarios


def test_elisions_need_no_space():
    source = "# language: fr\nFonctionnalité: f\nScénario: s\n  Étant donné qu'il pleut\n"
    (scenario,) = read(f"{source}  Lorsqu’un bateau arrive\n  Alors il attend\n").scenarios
    assert [step.text for step in scenario.steps] == ["il pleut", "un bateau arrive", "il attend"]


@for_any(st.text(alphabet='Feature:Scn rio\n|@#"<>Given a', max_size=200))
def test_any_text_is_read_or_refused_with_a_line(text):
    try:
        read(text)
    except FeatureError as error:
        assert 1 <= error.line <= max(1, len(text.splitlines()))


_cell = st.text(st.characters(blacklist_categories=("Cs", "Cc", "Zl", "Zp", "Zs")), max_size=8)


@for_any(st.lists(st.lists(_cell, min_size=2, max_size=2), min_size=1, max_size=5))
def test_tables_come_back_as_they_went_in(rows):
    def written(cell):
        return cell.replace("\\", "\\\\").replace("|", "\\|")

    lines = ["  | " + " | ".join(map(written, row)) + " |" for row in rows]
    source = textwrap.dedent("Feature: f\nScenario: s\n  Given t\n") + "\n".join(lines)
    (scenario,) = read(source).scenarios
    assert [list(row) for row in scenario.steps[0].table] == rows


def test_a_scenario_that_changes_its_process_is_named(folder):
    folder.write(
        rules__steps__steps_py="""
        import os
        from wolfbane.steps import given, then
        @given("somebody leaves")
        def leaves(): os.chdir("/")
        @then("the folder is the same")
        def same(): assert os.getcwd() != "/"
    """
    )
    folder.file(
        "rules/a.feature",
        r"""
        Feature: Quay
          Scenario: one
            Given somebody leaves
          Scenario: two
            Then the folder is the same
    """,
    )
    run = folder.run()
    assert set(run.outcomes.values()) == {"passed"}, run.out
    assert "rules/a.feature#one changed its process (working folder changed)" in run.text


def test_a_text_can_hold_its_own_quotes(folder):
    folder.file(
        "rules/steps/steps.py",
        (
            "from wolfbane.steps import given\n"
            "@given('a text')\n"
            'def told(text): assert text.splitlines() == [\'"""\', \'a """ b\'], text\n'
        ),
    )
    folder.file(
        "rules/a.feature",
        (
            'Feature: Quay\n  Scenario: one\n    Given a text\n      """\n'
            '      \\"\\"\\"\n      a \\""" b\n      """\n'
        ),
    )
    assert set(folder.run().outcomes.values()) == {"passed"}
