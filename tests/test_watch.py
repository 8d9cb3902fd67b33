"""``wolfbane watch`` in a terminal: files are saved, keys are pressed, tests run."""

from __future__ import annotations

import pexpect
import pytest


@pytest.fixture
def watch(folder):
    folder.file("berths.py", "LONG = 12\n")
    folder.file(
        "test_berths.py", "from berths import LONG\n\ndef test_long():\n    assert LONG > 9\n"
    )
    folder.file("test_tides.py", "def test_high():\n    pass\n\ndef test_low():\n    pass\n")

    def begin(*arguments):
        program, *rest = folder.command("watch", *arguments)
        environment = {**folder.environment(), "TERM": "dumb", "COLUMNS": "120"}
        terminal = pexpect.spawn(
            program,
            rest,
            cwd=str(folder.path),
            env=environment,
            encoding="utf-8",
            timeout=30,
            dimensions=(40, 120),
        )
        opened.append(terminal)
        return terminal

    opened = []
    yield begin
    for terminal in opened:
        terminal.close(force=True)


def test_what_is_saved_runs_what_it_reaches(folder, watch):
    folder.file("rules/tide.feature", "Feature: Tide\n  Scenario: high\n    Given water\n")
    steps = "from wolfbane.steps import given\n@given('water')\ndef water(): pass\n"
    folder.file("rules/steps/tide.py", steps)
    settings = folder.file("wolfbane.toml", '[workspace]\nleave_out = "name:low"\n')
    terminal = watch()
    terminal.expect("watching 3 tests .*keys: a = all, f = failed, s = new selection, q = quit")
    folder.file("berths.py", "LONG = 12\n")  # as it was
    folder.file("rules/steps/tide.py", f"{steps}# changed\n")
    terminal.expect('changed:"rules/steps/tide.py"')
    terminal.expect("1 test passed; ")
    terminal.expect("watching 3 tests")
    settings.unlink()
    terminal.expect("settings reloaded: wolfbane.toml\r\n")
    terminal.expect("watching 4 tests")
    folder.file("berths.py", "LONG = 6\n")
    terminal.expect('changed:"berths.py"')
    terminal.expect("tests? failed: ")
    terminal.expect("watching 4 tests")
    folder.file("test_tides.py", "def test_high():\n    pass\n\ndef test_noon():\n    pass\n")
    terminal.expect("All 2 tests passed; ")
    terminal.expect("watching 4 tests")
    terminal.send("f")
    terminal.expect(r"1 test in 1 file of 1 suite: status:failed\r\n")
    terminal.expect("tests? failed: ")
    assert "warning" not in terminal.before
    terminal.expect("watching 4 tests")
    folder.file("berths.py", "LONG = 24\n")
    terminal.expect("1 test passed; ")
    terminal.expect("watching")
    terminal.send("f")
    terminal.expect("No tests match the selection")
    terminal.send("a")
    terminal.expect("previously failed tests first")
    terminal.expect("All 4 tests passed; ")
    terminal.expect("watching 4 tests")
    (folder.path / "test_tides.py").unlink()
    terminal.expect("watching 2 tests")
    terminal.send("q")
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert terminal.exitstatus == 0


def test_the_selection_can_be_changed_and_mistakes_do_not_end_it(folder, watch):
    terminal = watch("--drop", "name:low")
    terminal.expect(r"watching 2 tests \(not \(name:low\)\)")
    terminal.send("s")
    terminal.expect("only: ")
    terminal.sendline("tag:(")
    terminal.expect("expected a term|expected a value")
    terminal.send("s")
    terminal.expect("only: ")
    terminal.sendline("file:test_tides.py")
    terminal.expect("watching 1 test ")
    folder.file("wolfbane.toml", "[[suit]]\n")
    folder.file("test_tides.py", "def test_high():\n    assert 0\n")
    terminal.expect("unknown key 'suit'")
    (folder.path / "wolfbane.toml").unlink()
    terminal.send("a")
    terminal.expect("tests? failed: ")
    terminal.expect("watching 1 test ")
    terminal.sendintr()
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert terminal.exitstatus == 0
