"""Every outcome equals that of the standard library's own runner."""

from __future__ import annotations

import json
import subprocess
import sys
from collections import Counter
from pathlib import Path

import pytest

from conftest import suite

OWN = Path(__file__).parent.parent / "benchmarks" / "strangers" / "own" / "python.py"
LIMIT = 120


def own_outcomes(folder, *arguments, **environment):
    """The outcome of each test, as the standard library's own runner has it."""
    out = folder.path.parent / "own.json"
    subprocess.run(
        [sys.executable, str(OWN), str(out), *arguments],
        cwd=folder.path,
        env={**folder.environment(), **environment},
        capture_output=True,
        timeout=LIMIT,
        check=False,
    )
    return Counter((file, name, outcome) for file, name, outcome in json.loads(out.read_bytes()))


def outcomes(run):
    """The same of a run of ours."""
    parts = ((*address.partition("#"), outcome) for address, outcome in run.outcomes.items())
    return Counter((file, name, outcome) for file, _, name, outcome in parts)


FILTERS = """
    import unittest, warnings
    warnings.filterwarnings("error")

    class Ebb(unittest.TestCase):
        def test_the_filter_of_a_module_is_hidden(self):
            warnings.warn("shallow")

        def test_own_filters_hold(self):
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                with self.assertRaises(UserWarning):
                    warnings.warn("shallow")

        def test_caught(self):
            with warnings.catch_warnings(record=True) as caught:
                warnings.warn("shallow", DeprecationWarning)
            self.assertEqual(len(caught), 1)
"""


@pytest.mark.parametrize("filters", ["", "error", "ignore", "error::DeprecationWarning"])
@pytest.mark.parametrize("how", ["variable", "option"])
def test_warnings(folder, filters, how):
    folder.write(test_ebb_py=FILTERS)
    given = {"PYTHONWARNINGS": filters} if filters and how == "variable" else {}
    if filters and how == "option":
        folder.file(
            "wolfbane.toml", suite("tides", "python", "test_ebb.py", python_options=["-W", filters])
        )
    expected = own_outcomes(folder, **(given or {"PYTHONWARNINGS": filters}))
    assert outcomes(folder.run(**given)) == expected
    assert sum(expected.values()) == 3


TREES = {
    "a namespace package below src": {
        "src/harbour/tides/__init__.py": "",
        "src/harbour/tides/heights.py": "HIGH = 7\n",
        "src/harbour/tides/tests/__init__.py": "",
        "src/harbour/tides/tests/test_heights.py": """
            import unittest
            from harbour.tides.heights import HIGH
            from .. import heights

            class Heights(unittest.TestCase):
                def test_high(self):
                    self.assertIs(heights.HIGH, HIGH)

                def test_name(self):
                    self.assertEqual(__name__, "harbour.tides.tests.test_heights")
        """,
    },
    "methods made in a loop": {
        "test_fees.py": """
            import unittest

            class Fees(unittest.TestCase):
                pass

            for number in range(3):
                def test_fee(self, number=number):
                    self.assertLess(number, 2)
                setattr(Fees, f"test_fee_{number}", test_fee)

            def test_helper(self):
                raise AssertionError("a method of no class")

            def test_suite():
                return unittest.defaultTestLoader.loadTestsFromTestCase(Fees)
        """,
    },
    "classes with one nameless test": {
        "test_only.py": """
            import unittest

            class Only(unittest.TestCase):
                def runTest(self):
                    self.assertTrue(False)

            class Heir(Only):
                def runTest(self):
                    self.assertTrue(True)

            class SecondHeir(Only):
                pass

            class WithMore(Only):
                def test_more(self):
                    pass
        """,
    },
    "a package that discovers its modules": {
        "tides/__init__.py": "",
        "tides/tests/__init__.py": """
            import os

            def load_tests(loader, standard, pattern):
                here = os.path.dirname(__file__)
                standard.addTests(loader.discover(start_dir=here, pattern=pattern or "test*.py"))
                return standard
        """,
        "tides/tests/test_ebb.py": """
            import unittest

            class Ebb(unittest.TestCase):
                def test_low(self):
                    pass
        """,
        "tides/tests/test_lost.py": "import no_such_harbour\n",
        "tides/tests/test_closed.py": "import unittest\nraise unittest.SkipTest('closed')\n",
    },
    "functions that help the tests of their file": {
        "test_depths.py": """
            import unittest

            def test_factory(base):
                class Depth(base):
                    def test_deep(self):
                        test_sum(1, two=2)
                return Depth

            def test_sum(one, *, two):
                assert one + two == 3

            Depth = test_factory(unittest.TestCase)
        """,
    },
    "parts whose parameters cannot be shown": {
        "test_parts.py": """
            import unittest

            class Shy:
                def __repr__(self):
                    raise ValueError("no picture")

            class Parts(unittest.TestCase):
                def test_digits(self):
                    for value in (1, 10 ** 5000, Shy()):
                        with self.subTest(value=value):
                            self.assertTrue(value)
        """,
    },
    "tests in a package itself": {
        "test/__init__.py": "",
        "test/test_tides/__init__.py": """
            import unittest

            class Tides(unittest.TestCase):
                def test_high(self):
                    pass
        """,
    },
    "a load_tests that fails": {
        "test_lost.py": """
            import unittest

            class Lost(unittest.TestCase):
                def test_found(self):
                    pass

            def load_tests(loader, standard, pattern):
                raise FileNotFoundError("no examples here")
        """,
    },
}

TREES_START = {
    "a namespace package below src": ["discover", "-s", "src/harbour/tides", "-t", "src"],
    "a package that discovers its modules": ["discover", "-s", "tides/tests", "-t", "."],
}


@pytest.mark.parametrize("tree", TREES)
def test_trees(folder, tree):
    for name, text in TREES[tree].items():
        folder.file(name, text)
    start = TREES_START.get(tree, [])
    expected = own_outcomes(folder, *start)
    run = folder.run()
    assert outcomes(run) == expected, run.out
    listed = json.loads(folder.call("list", "--as", "json").out)
    assert {name for _, name, _ in expected if name} <= {row["name"] for row in listed}


ORDER = """
    import os, unittest
    ORDER = {order}

    class {name}(unittest.TestCase):
        def test_a(self):
            with open("order", "a") as file:
                print("{name}", os.getpid(), file=file)
"""


@pytest.mark.parametrize(
    ("process", "how"), [("suite", []), ("suite", ["--order", "failed"]), ("file", []), (None, [])]
)
def test_what_shares_a_process(folder, process, how):
    names = ["b/Low", "b/c/High", "a/Slack", "a/Ebb", "d/Flood"]
    for number, name in enumerate(names):
        path, _, title = name.rpartition("/")
        folder.file(f"t/{path}/test_{title.lower()}.py", ORDER.format(order=number, name=title))
    keys = {"process": process} if process else {}
    folder.file("wolfbane.toml", suite("tides", "python", "t", **keys))
    run = folder.run("-j3", *how)
    assert set(run.outcomes.values()) == {"passed"}
    lines = [line.split() for line in (folder.path / "order").read_text().splitlines()]
    processes = {process for _, process in lines}
    if process == "suite":
        assert [name for name, _ in lines] == ["Ebb", "Slack", "High", "Low", "Flood"]
        assert len(processes) == 1
        assert "tides: one process for the whole suite" in run.text
    elif process == "file":
        assert len(processes) == len(names)
        assert "tides: one process for each file" in run.text
    else:
        assert "one process" not in run.text


@pytest.mark.parametrize("divided", [False, True])
def test_the_classes_of_a_file_share_a_process_unless_the_settings_divide_it(folder, divided):
    text = "import os, time, unittest\n" + "".join(
        f"""
class Tide{number}(unittest.TestCase):
    def test_a(self):
        with open("processes", "a") as file: print(os.getpid(), file=file)
        open("seen{number}", "w").close()
        # The other process needs as long as this one to come here.
        limit = time.monotonic() + 20
        while {divided} and not os.path.exists("seen{1 - number}") and time.monotonic() < limit:
            time.sleep(0.01)
"""
        for number in range(2)
    )
    folder.file("test_a.py", text)
    folder.file(
        "wolfbane.toml",
        suite("tides", "python", "test_a.py") + f"divide_files = {str(divided).lower()}\n",
    )
    assert set(folder.run("-j2").outcomes.values()) == {"passed"}
    processes = (folder.path / "processes").read_text().split()
    assert len(set(processes)) == (2 if divided else 1)
