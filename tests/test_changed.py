"""``changed:REV``: what differs from a git revision, and whatever imports reach it."""

from __future__ import annotations

import json

import pytest

from conftest import present, suite

SETTINGS = (
    suite("fees", "python", "tests", inputs=["tables/*.csv"], import_path=["lib"])
    + suite("rules", "scenario", "rules")
    + suite("log", "tap", "t/*.t")
)


@pytest.fixture
def harbour(folder):
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("lib/berths/__init__.py", "")
    folder.file("lib/berths/fit.py", "from . import measures\n")
    folder.file("lib/berths/measures.py", "LONG = 12\n")
    folder.file(
        "lib/tides.py", "import importlib\n\nheights = importlib.import_module('heights')\n"
    )
    folder.file("lib/heights.py", "")
    folder.file("tests/test_fit.py", "from berths.fit import measures\ndef test_fit(): pass\n")
    folder.file("tests/test_tides.py", "import tides\ndef test_tide(): pass\n")
    folder.file("tests/test_alone.py", "def test_alone(): pass\n")
    steps = "from wolfbane.steps import given\nimport berth_words\nfrom lib import signals\n"
    folder.file("rules/steps/berth_steps.py", steps)
    folder.file("rules/steps/berth_words.py", "import flags\n")
    folder.file("flags.py", "")
    folder.file("lib/signals.py", "")
    folder.file("t/log.t", "print qq{1..1\\nok 1\\n};\n")
    folder.file("rules/berth.feature", "Feature: Berths\n  Scenario: one\n    Given a boat\n")
    folder.git("init", "-q", "-b", "main")
    folder.git("add", "-A")
    folder.git("commit", "-q", "-m", "the harbour")
    return folder


def test_removed_settings_affect_all_tests(harbour):
    (harbour.path / "wolfbane.toml").unlink()
    assert chosen(harbour) == chosen(harbour, "--changed", "HEAD") != set()


def chosen(folder, *arguments):
    shown = folder.call("list", "--as", "json", *arguments)
    assert shown.code in (0, 3), shown.err
    return {test["path"] for test in json.loads(shown.out)} if not shown.code else set()


@pytest.mark.parametrize(
    ("file", "reached"),
    [
        ("lib/berths/measures.py", {"tests/test_fit.py"}),
        ("lib/berths/__init__.py", {"tests/test_fit.py"}),
        ("lib/heights.py", {"tests/test_tides.py"}),
        ("tests/test_alone.py", {"tests/test_alone.py"}),
        ("rules/steps/berth_steps.py", {"rules/berth.feature"}),
        ("rules/steps/new_steps.py", {"rules/berth.feature"}),
        ("flags.py", {"rules/berth.feature"}),
        ("lib/deep/Log.pm", {"t/log.t"}),
        ("lib/signals.py", {"rules/berth.feature"}),
        ("tables/prices.csv", {"tests/test_fit.py", "tests/test_tides.py", "tests/test_alone.py"}),
        ("README.md", set()),
    ],
)
def test_a_change_reaches_what_imports_it(harbour, file, reached):
    path = harbour.path / file
    path.parent.mkdir(exist_ok=True, parents=True)
    path.write_text((path.read_text() if path.exists() else "") + "# changed\n")
    assert chosen(harbour, "--changed", "HEAD") == reached
    harbour.git("add", "-A")
    harbour.git("commit", "-q", "-m", "a change")
    assert chosen(harbour, "--changed", "HEAD") == set()
    assert chosen(harbour, "--pick", "changed:HEAD~1") == reached


def test_the_way_of_a_change_is_told(harbour):
    (harbour.path / "lib" / "berths" / "measures.py").unlink()
    told = harbour.call("explain", "test_fit", "--changed", "main")
    assert "it depends on lib/berths/fit.py, which depends on lib/berths/measures.py" in " ".join(
        told.out.split()
    )
    assert "not selected" in harbour.call("explain", "test_alone", "--changed", "main").out
    (harbour.path / "lib" / "berths" / "measures.py").write_text("LONG = 13\n")
    run = harbour.run("--changed", "main")
    assert (run.code, list(run.results)) == (0, ["tests/test_fit.py#test_fit"])
    assert "1 test in 1 file of 1 suite: changed:main" in run.out


@pytest.mark.skipif(not present("node"), reason="node is not here")
def test_javascript_imports_count(folder):
    folder.file("wolfbane.toml", '[[suite]]\nname = "page"\nkind = "node"\npaths = ["page"]\n')
    folder.file("page/a.mjs", "export { b } from './deep/b.js';\n")
    folder.file("page/deep/b.js", "exports.b = require('./c');\n")
    folder.file("page/deep/c.js", "module.exports = 1;\n")
    head = "import test from 'node:test';\n"
    folder.file(
        "page/one.test.mjs", head + "import { b } from './a.mjs';\ntest('one', () => {});\n"
    )
    late = "test('two', async () => { await import('./deep/c.js'); });\n"
    folder.file("page/two.test.mjs", head + late)
    folder.file("page/three.test.mjs", head + "test('three', () => {});\n")
    folder.git("init", "-q")
    folder.git("add", "-A")
    folder.git("commit", "-q", "-m", "pages")
    folder.file("page/deep/c.js", "module.exports = 2;\n")
    assert chosen(folder, "--changed", "HEAD") == {"page/one.test.mjs", "page/two.test.mjs"}


def test_what_git_does_not_know_is_said(harbour, tmp_path):
    wrong = harbour.call("list", "--changed", "mian")
    assert wrong.code == 2
    assert "changed:mian: git cannot find this revision; did you mean main?" in wrong.err
    assert harbour.call("list", "--changed=--output=x").code == 2
    nothing = harbour.call("run", "--changed", "HEAD")
    assert (nothing.code, "changed:HEAD matches 0 of 5 tests" in nothing.err) == (3, True)
    (harbour.path / ".git").rename(tmp_path / "away")
    bare = harbour.call("list", "--changed", "HEAD")
    assert (bare.code, "is not in a git repository" in bare.err) == (2, True)


JS = "import test from 'node:test';\n"
CJS = "const test = require('node:test');\n"
FOLLOWED = [
    # Node: folders, a package's own name, another package of the workspace, computed names.
    (
        "node",
        "page/a.test.js",
        CJS + "const q = require('..');\ntest('a', () => {});\n",
        {"package.json": '{"main": "./lib/quay"}', "lib/quay.js": "exports.q = 1;\n"},
        "lib/quay.js",
    ),
    (
        "node",
        "page/a.test.js",
        CJS + "require('../');\ntest('a', () => {});\n",
        {"index.js": "exports.q = 1;\n"},
        "index.js",
    ),
    (
        "node",
        "page/a.test.mjs",
        JS + "import q from 'quay';\ntest('a', () => {});\n",
        {
            "package.json": '{"name": "quay", '
            '"exports": {"import": "./m.mjs", "require": "./c.cjs"}}',
            "m.mjs": "export default 1;\n",
            "c.cjs": "\n",
        },
        "m.mjs",
    ),
    (
        "node",
        "page/a.test.mjs",
        JS + "import q from 'quay/berths/one';\ntest('a', () => {});\n",
        {
            "package.json": '{"name": "quay", '
            '"exports": {".": "./m.js", "./berths/*": "./src/*.js"}}',
            "src/one.js": "export default 1;\n",
        },
        "src/one.js",
    ),
    (
        "node",
        "page/a.test.mjs",
        JS + "import q from '#fees';\ntest('a', () => {});\n",
        {"package.json": '{"imports": {"#fees": {"default": "./fees.js"}}}', "fees.js": "\n"},
        "fees.js",
    ),
    (
        "node",
        "page/a.test.mjs",
        JS + "import q from '@harbour/log';\ntest('a', () => {});\n",
        {
            "packages/log/package.json": '{"name": "@harbour/log", "main": "log.js"}',
            "packages/log/log.js": "\n",
        },
        "packages/log/log.js",
    ),
    (
        "node",
        "page/a.test.mjs",
        JS + "await import(`./rules/${1}.mjs`);\ntest('a', () => {});\n",
        {"page/rules/1.mjs": "\n"},
        "page/rules/1.mjs",
    ),
    (
        "node",
        "page/a.test.js",
        CJS + "const p = require('path');\n"
        "require(p.join(__dirname, 'q'));\ntest('a', () => {});\n",
        {"page/q/index.js": "\n"},
        "page/q/index.js",
    ),
    (
        "node",
        "page/a.test.mjs",
        JS + "new Worker('./page/w.mjs');\ntest('a', () => {});\n",
        {"page/w.mjs": "import './v.mjs';\n", "page/v.mjs": "\n"},
        "page/v.mjs",
    ),
    (
        "node",
        "page/a.test.js",
        CJS + "const run = join(__dirname, '../samples', 'run.js');\ntest('a', () => {});\n",
        {"samples/run.js": "require('..')\n", "other/run.js": "", "index.js": "\n"},
        "index.js",
    ),
    (
        "node",
        "page/a.test.mjs",
        JS + "test('a', () => {});\n",
        {"package-lock.json": "{}"},
        "package-lock.json",
    ),
    # Python: folders that sources add to the import path, packages, data, computed names.
    (
        "python",
        "tests/test_a.py",
        "import sys\nsys.path.insert(0, 'billing/src')\n"
        "from quay import fees\ndef test_a(): pass\n",
        {"billing/src/quay/__init__.py": "", "billing/src/quay/fees.py": ""},
        "billing/src/quay/fees.py",
    ),
    (
        "python",
        "tests/test_a.py",
        "import paths\nimport fees\ndef test_a(): pass\n",
        {
            "tests/paths.py": "import sys\nsys.path.append('billing')\n",
            "fees.py": "",
            "billing/fees.py": "",
        },
        "billing/fees.py",
    ),
    (
        "python",
        "tests/sub/test_a.py",
        "def test_a(): pass\n",
        {"tests/__init__.py": "", "tests/sub/__init__.py": ""},
        "tests/__init__.py",
    ),
    (
        "python",
        "tests/test_a.py",
        "import importlib\nimportlib.import_module(f'rules.{1}')\ndef test_a(): pass\n",
        {"rules/one.py": ""},
        "rules/one.py",
    ),
    (
        "python",
        "tests/test_a.py",
        "import plugins\ndef test_a(): pass\n",
        {"plugins.py": "def load(name):\n    return __import__(name)\n", "any.py": ""},
        "any.py",
    ),
    (
        "python",
        "tests/test_a.py",
        "import pathlib\n"
        "P = pathlib.Path(__file__).parent / 'data' / 'fees.csv'\ndef test_a(): pass\n",
        {"tests/data/fees.csv": "1\n"},
        "tests/data/fees.csv",
    ),
    (
        "python",
        "tests/test_a.py",
        "import subprocess\nRUN = ['python', 'tools/run.py']\ndef test_a(): pass\n",
        {"tools/run.py": "import other\n", "tools/other.py": ""},
        "tools/other.py",
    ),
    ("python", "tests/test_a.py", "def test_a(): pass\n", {"uv.lock": ""}, "uv.lock"),
    (
        "doctest",
        "docs/a.txt",
        ">>> from quay import fees\n>>> 1\n1\n",
        {"quay/fees.py": ""},
        "quay/fees.py",
    ),
    # Programs: whatever lies in the suite's folder, because its imports are computed.
    ("tap", "t/a.t", "print qq{1..1\\nok 1\\n};\n", {"t/lib/Helper.pm": "1;\n"}, "t/lib/Helper.pm"),
    ("tap", "t/a.t", "print qq{1..1\\nok 1\\n};\n", {"Quay.xs": "\n"}, "Quay.xs"),
    ("program", "checks/a.sh", ". ./lib.sh\n", {"lib.sh": "\n"}, "lib.sh"),
    ("program", "checks/a.py", "import berths\n", {"berths.py": "\n"}, "berths.py"),
]


@pytest.mark.parametrize(("kind", "test", "source", "others", "changed"), FOLLOWED)
def test_a_change_is_followed_to_the_tests_that_use_it(folder, kind, test, source, others, changed):
    top = test.partition("/")[0]
    paths = f"{top}/*" if kind == "program" else top
    folder.file("wolfbane.toml", suite("some", kind, paths))
    folder.file(test, source)
    for path, content in others.items():
        folder.file(path, content)
    folder.git("init", "-q")
    folder.git("add", "-A")
    folder.git("commit", "-q", "-m", "harbour")
    with (folder.path / changed).open("a") as file:
        file.write("\n")
    assert chosen(folder, "--changed", "HEAD") == {test}


@pytest.fixture
def quay(folder):
    """Two suites; one needs a service, whose script imports another file."""
    folder.file(
        "wolfbane.toml",
        suite("api", "python", "api", needs=["quay"])
        + suite("plain", "python", "plain")
        + '[service.quay]\ncommand = ["python3", "services/quay.py", "{port}"]\n'
        + '[env.local]\nvalues_from = "local.env"\n',
    )
    folder.file("services/quay.py", "import berths\n")
    folder.file("services/berths.py", "")
    folder.file("local.env", "URL=http://localhost\n")
    folder.file("api/test_api.py", "def test_api(): pass\n")
    folder.file("plain/test_plain.py", "def test_plain(): pass\n")
    folder.file("README.md", "Harbour\n")
    folder.file(".gitignore", "report.json\n")
    folder.git("init", "-q")
    folder.git("add", "-A")
    folder.git("commit", "-q", "-m", "harbour")
    return folder


@pytest.mark.parametrize(
    ("file", "old", "new", "reached"),
    [
        ("services/berths.py", "", "B = 1\n", {"api"}),
        ("services/quay.py", "", "B = 1\n", {"api"}),
        ("local.env", "localhost", "quay", {"api"}),
        ("wolfbane.toml", 'name = "plain"', 'timeout = 5\nname = "plain"', {"plain"}),
        ("wolfbane.toml", "{port}", "--at", {"api"}),
        ("wolfbane.toml", "[env.local]", "[keep]\nruns = 5\n[env.local]", set()),
        ("wolfbane.toml", "[env.local]", "[param.url]\n[env.local]", {"api", "plain"}),
    ],
)
def test_a_change_of_settings_reaches_the_suites_that_use_them(quay, file, old, new, reached):
    folder = quay.path / file
    text = folder.read_text()
    folder.write_text(text.replace(old, new, 1) if old else text + new)
    assert {path.partition("/")[0] for path in chosen(quay, "--changed", "HEAD")} == reached


def test_a_changed_file_that_no_test_is_known_to_use_is_named(quay):
    quay.file("README.md", "Harbour of ships\n")
    quay.file("plain/test_plain.py", "def test_plain(): pass\n\n\n# changed\n")
    run = quay.run("--changed", "HEAD")
    assert list(run.results) == ["plain/test_plain.py#test_plain"]
    assert "changed    README.md; no test is known to use it" in run.out
    quay.git("commit", "-q", "-a", "-m", "changes")
    quay.file("README.md", "Harbour\n")
    nothing = quay.call("run", "--changed", "HEAD")
    assert (nothing.code, "changed: README.md;" in nothing.err) == (3, True)
    assert "--changed-unknown all" in nothing.err
    every = quay.run("--changed", "HEAD", "--changed-unknown", "all")
    assert len(every.results) == 2
    why = quay.call("explain", "test_plain", "--changed", "HEAD", "--changed-unknown", "all").out
    assert "README.md has changed, and no test is known to use it" in " ".join(why.split())


def test_an_import_that_cannot_be_followed_is_told(folder):
    folder.file("wolfbane.toml", suite("some", "python", "tests"))
    folder.file("tests/test_a.py", "import plugins\ndef test_a(): pass\n")
    folder.file("plugins.py", "def load(name):\n    return __import__(name)\n")
    folder.git("init", "-q")
    folder.git("add", "-A")
    folder.git("commit", "-q", "-m", "harbour")
    folder.file("any.py", "")
    why = " ".join(folder.call("explain", "test_a", "--changed", "HEAD").out.split())
    assert (
        "it depends on plugins.py, which imports a name that is known only when it runs "
        "(line 2: __import__(name)), and any.py has changed"
    ) in why


@pytest.mark.skipif(not present("cargo"), reason="cargo is not here")
@pytest.mark.parametrize("changed", ["shared/src/lib.rs", "data/fees.txt", "other/deep.rs"])
def test_a_crate_depends_on_the_files_that_it_names(folder, changed):
    folder.file("wolfbane.toml", suite("crate", "cargo", "quay"))
    package = '[package]\nname = "{}"\nversion = "0.1.0"\nedition = "2021"\n'
    folder.file(
        "quay/Cargo.toml",
        package.format("quay") + '[target.x86.dependencies]\nshared = { path = "../shared" }\n',
    )
    folder.file(
        "quay/src/lib.rs",
        '#[path = "../../other/deep.rs"]\nmod deep;\n'
        'const FEES: &str = include_str!("../../data/fees.txt");\n'
        "#[test]\nfn pays() {}\n",
    )
    folder.file("shared/Cargo.toml", package.format("shared"))
    for path in ("shared/src/lib.rs", "data/fees.txt", "other/deep.rs", "data/else.txt"):
        folder.file(path, "\n")
    folder.git("init", "-q")
    folder.git("add", "-A")
    folder.git("commit", "-q", "-m", "harbour")
    folder.file("data/else.txt", "1\n")
    assert chosen(folder, "--changed", "HEAD") == set()
    folder.file(changed, "// changed\n")
    assert chosen(folder, "--changed", "HEAD") == {"quay/src/lib.rs"}
