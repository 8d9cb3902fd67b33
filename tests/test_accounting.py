"""What a suite's paths name is accounted for: as tests, as errored, or as holding none."""

from __future__ import annotations

import pytest

from conftest import present, suite

PACKAGE = "from common import Shared\nHELP = 3\n"
COMMON = """
import unittest

def make():
    class Made(unittest.TestCase):
        def test_made(self): pass
    return Made

class Shared(unittest.TestCase):
    def test_shared(self): pass
"""
PYTHON = {
    "import nosuchthing": "errored",
    "import common\nGen = common.make()": "passed",
    "def make():\n    import common\n    return common.make()\nMade = make()": "passed",
    "from common import *": "passed",
    "from package import HELP\nfrom package import Shared": "passed",
    "from common import Shared": "passed",
    "try:\n    import nosuchthing\nexcept ImportError:\n    from common import Shared": "passed",
    "BERTHS = 3\ndef berths(): return BERTHS\nif __name__ == '__main__': berths()": "",
}


@pytest.mark.parametrize("source", PYTHON)
@pytest.mark.parametrize("beside", ["", "\ndef test_plain(): pass\n"])
def test_a_python_file_is_loaded_unless_its_source_proves_that_it_holds_no_test(
    folder, source, beside
):
    folder.file("tests/common.py", COMMON)
    folder.file("tests/package.py", PACKAGE)
    folder.file("tests/test_a.py", source + beside)
    folder.file("wolfbane.toml", suite("a", "python", "tests"))
    if beside and source != "import nosuchthing":  # a narrow selection finds what is hidden, too
        run = folder.run("--drop", "name:test_plain")
        assert [*run.outcomes.values()] == [PYTHON[source]] * bool(PYTHON[source]), run.out
    run = folder.run()
    outcomes = [o for address, o in run.outcomes.items() if "test_plain" not in address]
    assert outcomes == [PYTHON[source]] * bool(PYTHON[source]), run.out
    assert ("no tests in  tests/test_a.py" in run.out) == (
        not PYTHON[source] and not beside and run.code != 3
    )


def test_files_without_a_test_are_listed_and_those_named_by_name_warned_of(folder):
    for name in ("a", "b", "c", "d"):
        folder.file(f"tests/test_{name}.py", "BERTH = 1\n")
    folder.file("tests/test_tide.py", "def test_tide(): pass\n")
    folder.file("wolfbane.toml", suite("a", "python", "tests", "tests/test_d.py"))
    run = folder.run()
    assert run.code == 0
    assert "no tests in  4 files: tests/test_a.py, tests/test_b.py, tests/test_c.py" in run.out
    assert "warning  tests/test_d.py contains no tests, although suite a lists it" in run.out
    assert "test_d.py" in folder.run("--verbose").out.partition("no tests in")[2]


@pytest.mark.skipif(not present("node"), reason="there is no Node.js here")
def test_a_script_that_takes_its_test_function_from_a_helper_is_run(folder):
    folder.file("t/helper.js", "module.exports = require('node:test').test;\n")
    folder.file("t/berth.js", "const check = require('./helper');\ncheck('fits', () => {});\n")
    folder.file("t/tool.js", "module.exports = 3;\n")
    folder.file(
        "t/alias.js",
        "const { describe, test: t } = require('node:test');\n"
        "describe('quay', () => { t.test('aliased', () => {}); });\n"
        "const own = { check: t };\nown.check('held', () => {});\n",
    )
    folder.file(
        "t/odd.js", "const own = { check: require('node:test') };\nown.check('odd', () => {});\n"
    )
    folder.file("wolfbane.toml", suite("t", "node", "t"))
    run = folder.run()
    names = ("berth.js#fits", "alias.js#quay / aliased", "alias.js#held", "odd.js#odd")
    assert run.outcomes == {f"t/{name}": "passed" for name in names}
    assert "no tests in  t/helper.js, t/tool.js" in run.out


@pytest.mark.skipif(not present("cargo"), reason="there is no Rust toolchain here")
def test_what_the_compiled_program_lists_is_run_wherever_it_was_written(folder):
    each = "macro_rules! each { ($($n:ident),*) => { $( #[test] fn $n() {} )* } }\n"
    folder.file("Cargo.toml", '[package]\nname = "moor"\nversion = "0.1.0"\nedition = "2021"\n')
    folder.file("src/lib.rs", '#[path = "odd_place.rs"]\nmod odd;\nmod rates;\n')
    folder.file("src/odd_place.rs", "#[test]\nfn odd() {}\n")
    folder.file("src/rates.rs", f"{each}each!(one, two);\nmod inner {{ each!(three); }}\n")
    run = folder.run()
    assert run.outcomes == {
        "src/lib.rs#odd / odd": "passed",
        "src/rates.rs#one": "passed",
        "src/rates.rs#two": "passed",
        "src/rates.rs#inner / three": "passed",
    }
