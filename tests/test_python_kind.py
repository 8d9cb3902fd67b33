"""Suites of kind python: what the standard library's classes can do, and plain functions."""

from __future__ import annotations

import importlib.util
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import SUPPORTED, suite

EVERYTHING = """
import asyncio, unittest

LOG = []

def setUpModule(): LOG.append("module up")
def tearDownModule(): LOG.append("module down"); print(LOG)

class Mixin:
    def test_mixed_in(self):
        self.assertTrue(self.ready)

class First(Mixin, unittest.TestCase):
    @classmethod
    def setUpClass(cls): cls.ready = True

    def setUp(self): self.addCleanup(LOG.append, "cleaned")

    def test_subtests(self):
        for berth in "ABC":
            with self.subTest("berth", berth=berth):
                if berth == "B":
                    self.fail("taken")

    @unittest.skip("no wind")
    def test_skipped(self): pass

    def test_skips_itself(self): self.skipTest("no water")

    @unittest.expectedFailure
    def test_expected(self): self.fail("as ever")

    @unittest.expectedFailure
    def test_unexpected(self): pass

    def test_error(self): raise KeyError("tide")

    def test_two_troubles(self):
        self.addCleanup(lambda: 1 / 0)
        self.fail("first")

class Second(First):
    test_subtests = None

class Async(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self): self.tide = await self.rise()
    async def rise(self):
        await asyncio.sleep(0)
        return 5
    async def test_async(self): self.assertEqual(self.tide, 5)

class NoClass(unittest.TestCase):
    @classmethod
    def setUpClass(cls): raise RuntimeError("no harbour")
    def test_a(self): pass
    def test_b(self): pass

class SkippedClass(unittest.TestCase):
    @classmethod
    def setUpClass(cls): raise unittest.SkipTest("closed")
    def test_a(self): pass

class BadEnd(unittest.TestCase):
    @classmethod
    def tearDownClass(cls): raise RuntimeError("rope torn")
    def test_a(self): pass

async def test_async_function(): await asyncio.sleep(0)
def test_default(berth="A"): pass
def test_wants(berth, tide): pass
"""


def outcome_of(run, path="test_all.py"):
    start = f"{path}#"
    return {a.removeprefix(start): r["outcome"] for a, r in run.results.items()}


@pytest.mark.parametrize("python", SUPPORTED)
def test_classes_and_functions(folder, python):
    folder.file("test_all.py", EVERYTHING)
    folder.file("wolfbane.toml", suite("a", "python", ".", python=python))
    run = folder.run("--jobs", "2")
    first = {
        "First / test_mixed_in": "passed",
        "First / test_skipped": "skipped",
        "First / test_skips_itself": "skipped",
        "First / test_expected": "todo",
        "First / test_unexpected": "failed",
        "First / test_error": "errored",
        "First / test_two_troubles": "errored",
    }
    assert outcome_of(run) == {
        **first,
        **{name.replace("First", "Second"): outcome for name, outcome in first.items()},
        "First / test_subtests": "failed",
        "Async / test_async": "passed",
        "NoClass / test_a": "errored",
        "NoClass / test_b": "errored",
        "SkippedClass / test_a": "skipped",
        "BadEnd / test_a": "passed",
        "BadEnd / tearDownClass": "errored",
        "test_async_function": "passed",
        "test_default": "passed",
        "test_wants": "blocked",
    }, run.out + run.err
    results = {a.partition("#")[2]: r for a, r in run.results.items()}
    parts = results["First / test_subtests"]["parts"]
    assert [part["outcome"] for part in parts].count("failed") == 1
    assert "and later: ZeroDivisionError" in results["First / test_two_troubles"]["message"]
    assert "in setUpClass: RuntimeError: no harbour" in results["NoClass / test_b"]["message"]
    assert "the function has parameters (berth, tide)" in results["test_wants"]["message"]
    assert results["SkippedClass / test_a"]["message"] == "closed"
    assert results["First / test_error"]["excerpt"]["line"] > 0


@pytest.mark.parametrize(
    ("body", "lines"),
    [
        ("fee = 96\n    assert fee == 120", ["assertion failed: fee == 120", "  fee = 96"]),
        (
            "def fee(n): return n * 3\n    assert fee(32) == 120, 'winter'",
            ["winter", "assertion failed: fee(32) == 120", "  fee(32) = 96"],
        ),
        (
            "boats = ['wren', 'heron']\n    assert boats == ['wren', 'tern']",
            ["  boats = ['wren', 'heron']", "-['wren', 'tern']", "+['wren', 'heron']"],
        ),
        ("open_ = False\n    assert not (open_ or 3)", ["  open_ = False"]),
        ("high = low = 3\n    assert low < high > 1", ["  low = 3", "  high = 3"]),
        ("assert all(n for n in (1, 0))", ["assertion failed: all(n for n in (1, 0))"]),
    ],
)
def test_a_bare_assert_shows_its_operands(folder, body, lines):
    folder.file("test_a.py", f"def test_it():\n    {body}\n")
    message = folder.run().results["test_a.py#test_it"]["message"]
    assert [line for line in lines if line not in message] == [], message


def test_the_last_of_many_asserts_is_read_as_well_as_the_first(folder):
    body = (
        "def test_{0}():\n    tide = 'ébb {0}'\n    assert (tide ==\n        'flood' or not tide)\n"
    )
    folder.file("test_a.py", "".join(body.format(number) for number in range(6000)))
    [told] = folder.run("test_a.py#test_5999").results.values()
    lines = told["message"].splitlines()
    assert lines[:2] == [
        "assertion failed: tide == 'flood' or not tide",
        "  tide = 'ébb 5999'",
    ]


def test_an_assert_evaluates_once_and_holds_on_to_nothing(folder):
    folder.write(
        test_a_py="""
        import gc, weakref

        class Boat: pass

        def test_once():
            calls = iter([1, 2])
            assert next(calls) == 1
            assert next(calls) == 2

        def test_lifetime():
            boat = Boat()
            seen = weakref.ref(boat)
            assert seen() is not None and seen() == boat
            del boat
            gc.collect()
            assert seen() is None
        """
    )
    assert set(folder.run().outcomes.values()) == {"passed"}


def test_packages_namespaces_and_names(folder):
    folder.file("pkg/__init__.py", "")
    folder.write(
        pkg__helper_py="WORD = 'tide'",
        pkg__test_relative_py="""
        from .helper import WORD
        def test_word(): assert WORD == "tide"
        """,
        ns__sub__test_same_py="def test_one(): pass",
        ns__other__test_same_py="def test_two(): pass",
    )
    assert folder.run("-j", "1").outcomes == {
        "pkg/test_relative.py#test_word": "passed",
        "ns/sub/test_same.py#test_one": "passed",
        "ns/other/test_same.py#test_two": "passed",
    }


def test_what_a_file_puts_on_the_path_stays(folder):
    folder.file("lib/late.py", "WORD = 'tide'")
    folder.write(
        test_a_py="""
        import os, sys
        sys.path.append(os.path.join(os.path.dirname(__file__), "lib"))
        def test_a():
            from late import WORD
        """,
        other__test_b_py="""
        import os
        def test_b(): os.chdir("/")
        """,
    )
    assert set(folder.run("-j", "1").outcomes.values()) == {"passed"}


def test_odd_names(folder):
    folder.file("a [b]#c:1/ünit/test_x y.py", "def test_ä(): assert 'é' == 'ß'\n")
    folder.file("a [b]#c:1/test_z.py", "def test_z(): pass\n")
    address = "a [b]#c:1/ünit/test_x y.py#test_ä"
    assert folder.run().outcomes == {address: "failed", "a [b]#c:1/test_z.py#test_z": "passed"}
    for chosen in (address, "a [b]#c:1/ünit", "a [b]#c:1/ünit/test_x y.py:1"):
        assert list(folder.run(chosen).results) == [address]


def test_settings_of_a_suite(folder):
    folder.write(
        wolfbane_toml=suite(
            "a",
            "python",
            "checks",
            folder="data",
            top=".",
            import_path=["src"],
            env={"HARBOUR": "Saltmarsh"},
        ),
        checks__test_it_py="""
        import os, unittest
        from harbour_code import WORD
        from . import helper
        class T(unittest.TestCase):
            def test_where(self):
                self.assertEqual(os.path.basename(os.getcwd()), "data")
                self.assertEqual((os.environ["HARBOUR"], WORD, __name__),
                                 ("Saltmarsh", "tide", "checks.test_it"))
            def test_nothing_of_the_runner_is_left_in_the_way(self):
                import sys
                self.assertFalse([name for name in sys.modules if name.startswith("wolfbane")])
                self.assertFalse([key for key in os.environ if key in
                                  ("WOLFBANE_TOKEN", "WOLFBANE_CHANNEL")])
        """,
        checks__helper_py="",
        src__harbour_code_py="WORD = 'tide'",
        data__note_txt="x",
    )
    run = folder.run()
    assert run.code == 0, run.out


def test_load_tests_of_a_file_and_of_a_package(folder):
    folder.file(
        "pkg/__init__.py",
        """
        import os, unittest
        class Extra(unittest.TestCase):
            def test_extra(self): pass
        def load_tests(loader, tests, pattern):
            suite = loader.discover(os.path.dirname(__file__), pattern="test_[a-m]*.py")
            suite.addTest(Extra("test_extra"))
            return suite
        """,
    )
    folder.write(
        pkg__test_kept_py="""
        import unittest
        class K(unittest.TestCase):
            def test_k(self): pass
        """,
        pkg__test_zeroed_py="""
        import unittest
        class Z(unittest.TestCase):
            def test_z(self): pass
        """,
        test_made_py="""
        import unittest
        class M(unittest.TestCase):
            def __init__(self, berth): super().__init__("test_m"); self.berth = berth
            def test_m(self): self.assertIn(self.berth, "AB")
        def load_tests(loader, tests, pattern):
            return unittest.TestSuite([M("A"), M("B"), M("C")])
        """,
    )
    assert folder.run().outcomes == {
        "pkg/__init__.py#Extra / test_extra": "passed",
        "pkg/test_kept.py#K / test_k": "passed",
        "test_made.py#M / test_m": "passed",
        "test_made.py#M / test_m (2)": "passed",
        "test_made.py#M / test_m (3)": "failed",
    }
    again = folder.run("test_made.py#M / test_m (3)")
    assert list(again.outcomes.values()) == ["failed"]


def test_class_hooks_run_once_when_a_file_is_cut(folder):
    folder.write(
        test_a_py="""
        import unittest
        def cases():
            for number in range(12):
                class C(unittest.TestCase):
                    @classmethod
                    def setUpClass(cls): cls.ups = getattr(cls, "ups", 0) + 1
                    def test_a(self): self.assertEqual(self.ups, 1)
                    def test_b(self): self.assertEqual(self.ups, 1)
                C.__name__ = C.__qualname__ = f"C{number}"
                globals()[C.__name__] = C
                del C
        cases()
        """
    )
    for arguments in (["-j", "3"], ["-j", "3", "--order", "random", "--seed", "7"]):
        run = folder.run(*arguments)
        assert len(run.results) == 24
        assert set(run.outcomes.values()) == {"passed"}, run.out


def test_random_order_can_be_had_again(folder):
    folder.file("test_a.py", "\n".join(f"def test_{n}(): pass" for n in range(30)))
    plans = [
        folder.call("run", "--dry-run", "--order", "random", "--seed", seed).out
        for seed in ("5", "5", "6")
    ]
    assert plans[0] == plans[1] != plans[2]
    assert "random, seed " in folder.run("--order", "random").out


def test_the_time_of_a_run_is_limited(folder):
    folder.write(
        test_quay_py="""
        import time
        def test_a(): pass
        def test_b(): time.sleep(600)
        def test_c(): pass
        """
    )
    run = folder.run("-j", "1", "--run-time", "2s")
    assert run.outcomes == {"test_quay.py#test_a": "passed"} and run.code == 1
    assert (
        "2 tests not run" in run.out
        and "stopped after the time limit of 2 s (--run-time)" in run.text
    )
    assert folder.run("--name", "test_a", "--run-time", "1h").code == 0
    none = folder.run("--name", "test_b", "--run-time", "1s")
    assert none.code == 3 and "stopped after the time limit of 1 s (--run-time)" in none.text


def test_stop_after(folder):
    folder.file("test_a.py", "\n".join(f"def test_{n}(): assert 0" for n in range(9)))
    run = folder.run("--stop-after", "2", "-j", "1")
    assert (run.code, len(run.results)) == (1, 2)
    assert "7 tests not run" in run.out and "stopped after 2" in run.out


def test_a_missing_interpreter_blocks_its_suite_alone(folder):
    folder.write(
        wolfbane_toml=suite("old", "python", "old", python="python9.9")
        + suite("new", "python", "new"),
        old__test_a_py="def test_a(): pass",
        new__test_b_py="def test_b(): pass",
    )
    run = folder.run()
    assert run.outcomes == {"old/test_a.py#test_a": "blocked", "new/test_b.py#test_b": "passed"}
    assert run.code == 4
    assert "Python interpreter 'python9.9' not found" in run.out


MODULES = ("test_textwrap", "test_csv", "test_argparse", "test_json", "test_contextlib")


@pytest.fixture(scope="module")
def library(tmp_path_factory):
    """Copies of the interpreter's own tests, and what its own runner counts on each."""
    result = importlib.util.find_spec("test.support")
    if result is None or not result.origin:
        pytest.skip("this interpreter comes without its own tests")
    source = Path(result.origin).parent.parent
    root = tmp_path_factory.mktemp("library")
    shutil.copytree(source / "support", root / "test" / "support")
    shutil.copy(source / "__init__.py", root / "test")
    counts = {}
    for module in MODULES:
        for path in source.glob(f"{module}*"):
            copy = shutil.copytree if path.is_dir() else shutil.copy
            copy(path, root / "test" / path.name)
        own = subprocess.run(
            [sys.executable, "-m", "unittest", f"test.{module}"],
            cwd=root,
            capture_output=True,
            text=True,
            check=False,
        ).stderr
        counts[module] = {
            key: int(result[1]) if (result := re.search(pattern, own)) else 0
            for key, pattern in {
                "run": r"Ran (\d+) test",
                "failed": r"failures=(\d+)",
                "errored": r"errors=(\d+)",
                "skipped": r"skipped=(\d+)",
            }.items()
        }
    return root, counts


@pytest.mark.parametrize("how", [["-j1"], ["-j2", "--order", "random", "--seed", "3"]])
def test_counts_equal_the_standard_librarys_own(library, folder, how):
    root, expected = library
    folder.path = root
    run = folder.run(*[f"test/{path.name}" for path in (root / "test").glob("test_*")], *how)
    counts = {
        module: dict.fromkeys(("run", "failed", "errored", "skipped"), 0) for module in MODULES
    }
    for address, result in run.results.items():
        name = re.match(r"test/(\w+)", address)[1]
        module = max((m for m in MODULES if name.startswith(m)), key=len)
        if name != module and f"test/{name}.py" in address:
            continue  # a neighbour that only shares the start of its name
        counts[module]["run"] += 1
        if result["outcome"] in counts[module]:
            counts[module][result["outcome"]] += 1
    assert counts == expected


def test_examples_in_docstrings_and_texts(folder):
    folder.write(
        wolfbane_toml=suite("examples", "doctest", "code", "GUIDE.md", options=["ELLIPSIS"]),
        code__fees_py='''
        """
        >>> 1 + 1
        2
        """
        class Boat:
            # tags: smoke
            def length(self):
                """
                >>> Boat().length()
                8
                >>> Boat().gone
                """
                return 7
        def quiet():
            """No example."""
        ''',
        GUIDE_md="""
        ```python
        >>> list(range(20))
        [0, 1, ..., 19]
        ```
        """,
    )
    listed = folder.call("list").out
    assert "Boat / length" in listed and "3 tests in 2 files" in listed
    run = folder.run()
    assert run.outcomes == {
        "GUIDE.md": "passed",
        "code/fees.py#(module)": "passed",
        "code/fees.py#Boat / length": "failed",
    }, run.out
    result = run.results["code/fees.py#Boat / length"]
    assert "- 8\n+ 7" in result["message"] and "raised AttributeError" in result["message"]
    assert [part["name"] for part in result["parts"]] == ["Boat().length()", "Boat().gone"]
    assert result["excerpt"]["line"] == 9
    assert list(folder.run("--tag", "smoke").results) == ["code/fees.py#Boat / length"]
    folder.file("wolfbane.toml", (folder.path / "wolfbane.toml").read_text().replace("ELL", "EL"))
    assert "unknown option 'ELIPSIS'; did you mean ELLIPSIS?" in folder.call("list").err


def test_a_malformed_docstring_costs_itself_and_long_output_is_cut(folder):
    folder.file(
        "tides.py",
        '''
        def good():
            """
            >>> good()
            1
            """
            return 1

        def bad():
            """
            >>> if True:
            ...     print("x")
             x
            >>>print("no space")
            """

        def flood():
            """
            >>> flood()
            nothing
            """
            print("\\n".join(f"line {n}" for n in range(5000)))
    ''',
    )
    folder.file("log.txt", "A text:\n\n  >>> 1\n  1\n  >>>2\n")
    folder.file("wolfbane.toml", suite("d", "doctest", "tides.py", "log.txt"))
    run = folder.run()
    assert run.outcomes == {
        "tides.py#good": "passed",
        "tides.py#bad": "errored",
        "tides.py#flood": "failed",
        "log.txt": "errored",
    }
    bad, log = run.results["tides.py#bad"], run.results["log.txt"]
    assert bad["message"].startswith("lacks blank after >>>")
    assert bad["frames"] == [{"file": "tides.py", "line": 13, "function": "example"}]
    assert log["frames"][0]["line"] == 5
    assert "lines hidden; use --verbose to show all]" in run.out
    assert len(run.out.splitlines()) < 200
    assert "+ line 4999" in folder.call("show", "last", "--verbose").out
