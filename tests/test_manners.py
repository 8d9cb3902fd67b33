"""Messages, empty lists, widths and streams: what a newcomer meets in the first hour."""

from __future__ import annotations

import json
import re

import pexpect
import pytest

from conftest import suite

SUITES = suite("tides", "python", "tests/tides", tags=["unit"], needs=["gauge"]) + suite(
    "fees", "python", "tests/fees", build=["touch built"]
)
SETTINGS = f"""{SUITES}
[service.gauge]
command = ["sh", "-c", "touch started; sleep 60"]
[param.token]
required = true
[param.boat]
default = "heron"
[env.quay]
token = "x"
[preset.sick]
arguments = ["--tag", "untied"]
"""


@pytest.fixture
def quay(folder):
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("tests/tides/test_heights.py", "# tags: smoke\ndef test_high(): pass\n")
    folder.file("tests/fees/test_fees.py", "def test_late_fee(): assert False\n")
    return folder


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        ("run --env quya", 2, "there is no environment 'quya'; did you mean quay?"),
        ("env show quya", 2, "there is no environment 'quya'; did you mean quay?"),
        ("run --set tokn=1", 2, "--set: there is no parameter 'tokn'; did you mean token?"),
        ("run --env quay tests/tide", 2, "'tests/tide' does not exist; did you mean tests/tides?"),
        ("list tests/tides/test_hights.py", 2, "did you mean tests/tides/test_heights.py?"),
        ("bridge check quay.tml", 2, "there is no file 'quay.tml'"),
        ("clean --older-than 3", 2, "'3' has no unit (write '3d' for days, '3h' for hours)"),
        ("preset save a -- --tag smok", 2, "tag:smok matches 0 of 2 tests; did you mean tag:smoke"),
        ("preset save a -- --suite tide", 2, "unknown suite 'tide'; did you mean tides?"),
        ("preset save a -- --env quya", 2, "there is no environment 'quya'; did you mean quay?"),
        ("preset save a -- --set bota=1", 2, "there is no parameter 'bota'; did you mean boat?"),
        ("history --tag smok", 3, "tag:smok matches 0 of 2 tests; did you mean tag:smoke (1)?"),
    ],
)
def test_one_wrong_name_gives_one_message(quay, arguments, code, said):
    done = quay.call(*arguments.split())
    assert (done.code, done.out) == (code, ""), done.out
    lines = [line for line in done.err.splitlines() if not re.match(r"Usage:|Try |Nothing|$", line)]
    assert said in done.err, done.err
    assert len([line for line in lines if "No tests match the selection" not in line]) == 1, (
        done.err
    )


@pytest.mark.parametrize(
    ("change", "lines"),
    [
        (('name = "fees"', 'nmae = "fees"'), [":8: unknown key 'nmae'; did you mean name?"]),
        (('needs = ["gauge"]', 'needs = ["guage"]'), ["there is no service 'guage'"]),
        (("[service.gauge]", "[service.gage]"), ["no service 'gauge'; did you mean gage?"]),
        (('token = "x"', 'tokn = "x"'), ["there is no parameter 'tokn'; did you mean token?"]),
    ],
)
def test_one_wrong_word_in_the_settings_gives_one_message(quay, change, lines):
    text = quay.path / "wolfbane.toml"
    assert change[0] in text.read_text()
    text.write_text(text.read_text().replace(*change))
    done = quay.call("run", "--env", "quay")
    assert done.code == 2 and len(done.err.splitlines()) == len(lines), done.err
    assert all(line in done.err for line in lines), done.err


def test_statuses_are_listed_and_written_as_a_shell_takes_them(quay):
    done = quay.call("list", "--status", "faild")
    assert done.code == 2 and "unknown status 'faild'; did you mean failed?" in done.err
    assert "timed-out" in done.err and "slower" in done.err
    quay.file("tests/fees/test_fees.py", "import time\ndef test_slow(): time.sleep(9)\n")
    assert quay.call("run", "--env", "quay", "--suite", "fees", "--timeout", "300ms").code == 1
    assert "test_slow" in quay.call("list", "--status", "timed-out").out


def test_terms_that_match_apart_and_not_together(quay):
    done = quay.call("list", "--tag", "smoke", "--suite", "fees")
    assert done.code == 3
    assert "no test matches all terms" in done.err
    assert "together" not in quay.call("list", "--tag", "smok", "--suite", "fees").err


EMPTY_LISTS = {
    "runs": "0 runs, 0 B in ",
    "history": "no runs are recorded here",
    "preset list": "there are no presets; see 'wolfbane preset save --help'",
    "quarantine list": "no tests are quarantined; see 'wolfbane quarantine add --help'",
    "env list": "no environment is declared; add [env.NAME] to wolfbane.toml",
}


@pytest.mark.parametrize("what", EMPTY_LISTS)
def test_empty_lists_are_no_errors(folder, what):
    folder.file("wolfbane.toml", "")
    done = folder.call(*what.split())
    assert done.code == 0, done.err
    assert (done.out + done.err).startswith(EMPTY_LISTS[what])


def test_doctor_finds_presets_that_name_what_is_not_there(quay):
    said = " ".join(quay.call("doctor").out.split())
    assert "preset sick tag:untied matches 0 of 2 tests" in said


def test_what_is_decided_without_a_worker_starts_and_builds_nothing(quay):
    for arguments in (
        ["run", "--tag", "smok"],
        ["run", "--status", "failed"],
        ["run", "--suite", "tides", "--name", "nope"],
    ):
        done = quay.call(*arguments, "--env", "quay")
        assert (done.code, done.out) == (3, ""), done.out + done.err
    assert not (quay.path / "started").exists() and not (quay.path / "built").exists()


def test_a_plan_of_tests_that_are_known_builds_nothing(folder):
    folder.file("wolfbane.toml", suite("log", "tap", "t/*.sh", build=["touch built"]))
    folder.file("t/parse.sh", "echo 1..1\necho ok\n", mode=0o755)
    plan = folder.call("run", "--dry-run")
    assert (plan.code, "1 test in 1 file would run" in plan.out) == (0, True), plan.out + plan.err
    assert not (folder.path / "built").exists()
    assert folder.call("run").code == 0 and (folder.path / "built").exists()


def test_piped_output_has_whole_names_and_no_trailing_spaces(quay):
    suite = "a-suite-with-a-name-that-is-longer-than-any-column-of-the-table-of-suites-was"
    quay.file("wolfbane.toml", SETTINGS.replace('"fees"', f'"{suite}"'))
    done = quay.call("run", "--env", "quay", "--suite", suite, COLUMNS="")
    assert f" {suite} " in done.out
    for command in (["show"], ["history"], ["doctor"], ["explain", "test_late_fee"]):
        shown = quay.call(*command, COLUMNS="").out
        assert shown and not re.search(r"[ \t]$", shown, re.M), shown
    assert not re.search(r"[ \t]$", done.out, re.M)


def test_a_narrow_terminal_says_what_it_leaves_out(quay):
    done = quay.call("run", "--env", "quay", COLUMNS="30")
    assert "left out to fit a width of 30 characters:" in done.text and " time" in done.text
    table = done.out.partition("suite ")[2].partition("left out")[0]
    assert max(map(len, table.splitlines())) <= 30
    wide = quay.call("show", COLUMNS="80").out
    assert "left out" not in wide
    assert "source     tests/fees/test_" in quay.call("explain", "test_late_fee", COLUMNS="40").out


def test_an_encoding_of_few_characters(quay):
    done = quay.call("run", "--env", "quay", PYTHONIOENCODING="ascii")
    assert done.out.isascii() and "1 * def test_late_fee" in done.out, done.out


def test_a_dumb_terminal_gets_plain_lines(quay):
    env = {**quay.environment(), "TERM": "dumb"}
    env.pop("NO_COLOR")
    command, *arguments = quay.command("run", "--env", "quay")
    terminal = pexpect.spawn(command, arguments, cwd=str(quay.path), env=env, timeout=60)
    terminal.expect(pexpect.EOF)
    shown = terminal.before.decode()
    assert "\x1b" not in shown and "tests/fees/test_fees.py  1 failed" in shown


def test_more_results_than_were_chosen_are_explained(folder):
    folder.file("package.json", "{}")
    folder.file(
        "tests/a.test.mjs",
        """
        import {test} from 'node:test';
        test('berths', async (t) => { for (const b of ['A1', 'A2']) await t.test(b, () => {}); });
        """,
    )
    done = folder.run()
    assert "1 test was selected; 2 more appeared during the run, in tests/a.test.mjs" in done.text


def test_the_version_with_what_is_installed(folder):
    said = folder.call("--version", "--verbose").out
    assert re.search(r"^wolfbane \d", said) and re.search(r"^Python +3\.", said, re.M)
    assert re.search(r"^click +\d", said, re.M)


def test_a_tag_key_is_an_option(quay):
    quay.file("tests/fees/test_fees.py", "# tags: owner=quay\ndef test_late_fee(): pass\n")
    quay.file("tests/tides/test_heights.py", "# tags: owner=ebb\ndef test_high(): pass\n")
    listed = quay.call("list", "--owner", "quay,nobody")
    assert "test_late_fee" in listed.out and "test_high" not in listed.out
    assert "test_high" in quay.call("list", "--owner=ebb", "--as", "tree").out
    assert quay.call("preset", "save", "mine", "--", "--owner", "quay", "--env", "quay").code == 0
    done = quay.run("--preset", "mine")
    assert list(done.outcomes) == ["tests/fees/test_fees.py#test_late_fee"]
    wrong = quay.call("list", "--ower", "quay")
    assert wrong.code == 2 and "there is no option '--ower'; did you mean --owner?" in wrong.err


def test_runs_show_verdict_and_selection(quay):
    quay.call("run", "--env", "quay", "--suite", "fees")
    shown = " ".join(quay.call("runs", COLUMNS="").out.split())
    assert "1 of 1 test failed suite:fees" in shown
    (run,) = json.loads(quay.call("runs", "--as", "json").out)
    assert (run["verdict"], run["selection"]) == ("1 of 1 test failed", "suite:fees")
    assert run["exit_code"] == 1


def test_a_dotenv_file_names_parameters_by_their_variables(quay):
    settings = SETTINGS.replace("required = true", 'required = true\nexport = "QUAY_TOKEN"')
    quay.file("wolfbane.toml", settings.replace('token = "x"', 'values_from = ".env"'))
    quay.file(".env", "export QUAY_TOKEN='from the file'\n")
    assert "from the file" in quay.call("env", "show", "quay").out


@pytest.mark.parametrize(
    ("kind", "key", "said"),
    [
        ("node", "globals = true", "the key 'globals' was renamed; use 'bare_words'"),
        ("cargo", "run_ignored = true", "was renamed; use 'ignored = \"run\"'"),
    ],
)
def test_keys_with_a_new_name(folder, kind, key, said):
    folder.file("t/a.txt", "")
    folder.file("wolfbane.toml", f'[[suite]]\nname = "a"\nkind = "{kind}"\npaths = ["t"]\n{key}\n')
    done = folder.call("list")
    assert (done.code, said in done.err) == (2, True), done.err
    assert "wolfbane.toml:5: " in done.err


def test_tables_of_scenarios_have_columns(folder):
    folder.file("wolfbane.toml", suite("a", "scenario", "t"))
    folder.file(
        "t/a.feature",
        """
        Feature: berths
          Scenario: new
            Given berths
              | name | length |
              | A1   | 12     |
          Scenario: old
            Given headings
              | name |
        """,
    )
    folder.file(
        "t/steps/s.py",
        """
        from wolfbane.steps import given
        @given("berths")
        def berths(table): assert table.columns == ["name", "length"], table.records
        @given("headings")
        def headings(table): table.headings
        """,
    )
    done = folder.run()
    assert done.results["t/a.feature#new"]["outcome"] == "passed", done.out
    assert "this attribute is now called 'columns'" in done.results["t/a.feature#old"]["message"]


@pytest.mark.parametrize("width", [40, 60, 80])
def test_a_list_fits_its_terminal(folder, width):
    tags = "unit, season=winter, owner=desk, crane, lock"
    folder.file("tests/test_quay.py", f"# tags: {tags}\ndef test_high(): pass\n")
    rows = folder.call("list", COLUMNS=str(width)).out.splitlines()
    assert max(map(len, rows)) <= width
    arguments = " ".join(rows[2 : rows.index("")]).split()
    assert arguments == ["~", "2", "test_high", *tags.split(", ")]
    assert "owner=desk 1" in " ".join(rows)
