"""Suites of kind node: the runtime's own test module, and describe/it files."""

from __future__ import annotations

import json
import re
import subprocess

import pytest

from conftest import present

pytestmark = pytest.mark.skipif(not present("node"), reason="there is no Node.js here")

SUITE = '[[suite]]\nname = "berths"\nkind = "node"\npaths = ["t"]\n'
BERTHS = """
import test, { describe, it, before } from 'node:test';
import assert from 'node:assert/strict';

// tags: smoke
describe('berth', () => {
  before(() => { console.log('hook') });
  it('fits', () => {});
  it('is too small', () => {
    console.log('measuring');
    assert.deepEqual({ length: 12 }, { length: 14 });
  });
  it.skip('in winter', () => {});
  it.todo('one day', () => { throw new Error('no') });
  it('same', () => {});
  it('same', () => {});
  it('slow', { timeout: 20 }, () => new Promise((r) => setTimeout(r, 5000)));
  it('calls back', (t, done) => setTimeout(done, 1));
  it('calls back badly', (t, done) => done(new Error('denied')));
});
test('rows @slow', async (t) => {
  for (const n of [1, 2]) await t.test(`row ${n}`, () => console.log('row', n));
  await t.test('row of none', () => assert.ok(false));
});
describe('broken hook', () => { before(() => { throw new TypeError('dry') }); it('x', () => {}); });
describe('broken body', () => { it('inside', () => {}); throw new RangeError('oops'); });
describe('closed', { skip: 'winter' }, () => { it('never', () => {}) });
test('last', async () => { throw 'a string' });
"""
OUTCOMES = {
    "berth / fits": "passed",
    "berth / is too small": "failed",
    "berth / in winter": "skipped",
    "berth / one day": "todo",
    "berth / same": "passed",
    "berth / same (2)": "passed",
    "berth / slow": "timed out",
    "berth / calls back": "passed",
    "berth / calls back badly": "errored",
    "rows @slow": "failed",
    "rows @slow / row 1": "passed",
    "rows @slow / row 2": "passed",
    "rows @slow / row of none": "failed",
    "broken hook / x": "errored",
    "broken body": "errored",
    "broken body / inside": "errored",
    "closed": "skipped",
    "last": "errored",
}


@pytest.fixture
def berths(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file("t/berths.test.mjs", BERTHS)
    return folder


def named(run):
    return {address.partition("#")[2]: o for address, o in run.outcomes.items()}


def test_every_outcome_and_what_is_told_of_it(berths):
    run = berths.run("-j1")
    assert run.code == 1
    assert named(run) == OUTCOMES
    small = run.results["t/berths.test.mjs#berth / is too small"]
    assert small["output"] == "measuring\n"
    assert "-   length: 14" in small["message"] and "+   length: 12" in small["message"]
    assert [frame["file"] for frame in small["frames"]] == ["t/berths.test.mjs"]
    assert small["excerpt"]["line"] == small["frames"][0]["line"] == 10
    hook = run.results["t/berths.test.mjs#broken hook / x"]
    assert hook["message"] == "in a hook: TypeError: dry"
    assert run.results["t/berths.test.mjs#last"]["message"] == "thrown: a string"


def test_counts_are_those_of_the_runtime(berths):
    """The runtime counts a broken or skipped suite as no test; we name it, for it did not run."""
    own = subprocess.run(
        ["node", "--test-reporter=tap", "t/berths.test.mjs"],
        cwd=berths.path,
        capture_output=True,
        text=True,
        check=False,
    ).stdout
    counts = {key: int(n) for key, n in re.findall(r"^# (\w+) (\d+)$", own, re.M)}
    outcomes = [
        o for name, o in named(berths.run()).items() if name not in ("broken body", "closed")
    ]
    assert len(outcomes) == counts["tests"]
    assert outcomes.count("passed") == counts["pass"]
    assert outcomes.count("skipped") == counts["skipped"]
    assert outcomes.count("todo") == counts["todo"]
    bad = sum(outcomes.count(word) for word in ("failed", "errored", "timed out"))
    assert bad == counts["fail"] + counts["cancelled"]


@pytest.mark.parametrize(
    ("chosen", "ran"),
    [
        ("t/berths.test.mjs#berth / same (2)", ["berth / same (2)"]),
        ("t/berths.test.mjs:7", ["berth / fits"]),
        ("t/berths.test.mjs#rows @slow / row of none", ["rows @slow / row of none"]),
    ],
)
def test_one_is_run_alone(berths, chosen, ran):
    assert list(named(berths.run(chosen))) == ran


def test_tests_made_at_run_time_are_known_from_then_on(berths):
    listed = berths.call("list").out
    assert "row of none" in listed and "row 1" not in listed
    berths.run()
    assert "rows @slow / row 1" in berths.call("list").out
    run = berths.run("t/berths.test.mjs#rows @slow / row 2")
    assert named(run) == {"rows @slow / row 2": "passed"}
    assert run.results["t/berths.test.mjs#rows @slow / row 2"]["output"] == "row 2\n"
    assert sorted(named(berths.run("--tag", "slow", "--drop", 'name:"row 1"'))) == [
        "rows @slow",
        "rows @slow / row 2",
        "rows @slow / row of none",
    ]


def test_tags_from_comments_and_titles(berths):
    listed = json.loads(berths.call("list", "--as", "json", "--exact", "--tag", "smoke").out)
    assert {row["name"].partition(" / ")[0] for row in listed} == {"berth"}
    assert all(row["exact"] and row["line"] for row in listed)


def test_what_the_source_shows_is_what_is_collected(berths):
    def rows(*arguments):
        return [
            (row["name"], row["line"])
            for row in json.loads(berths.call("list", "--as", "json", *arguments).out)
        ]

    scanned = [row for row in rows() if row[0] != "broken body / inside"]
    exact = [row for row in rows("--exact") if not row[0].startswith("broken body")]
    assert scanned == exact


@pytest.mark.parametrize(
    "importing",
    [
        "const { test: t } = require('node:test');",
        "const t = require('node:test');",
        "const t = require('node:test').it;",
    ],
)
def test_common_js(folder, importing):
    folder.file("wolfbane.toml", SUITE)
    folder.file("t/a.test.cjs", f"{importing}\nt('a', () => {{}});\nt('b', () => {{}});")
    assert named(folder.run("t/a.test.cjs#b")) == {"b": "passed"}


def test_tests_declared_by_another_file(folder):
    """A change of the file they come from is seen, though the test file is the same."""
    folder.file("wolfbane.toml", SUITE)
    folder.file("t/cases.mjs", "export const cases = ['a'];")
    folder.file(
        "t/a.test.mjs",
        "import test from 'node:test';\nimport { cases } from './cases.mjs';\n"
        "for (const name of cases) test(name, () => {});",
    )
    assert named(folder.run()) == {"a": "passed"}
    folder.file("t/cases.mjs", "export const cases = ['a', 'b'];")
    assert named(folder.run()) == {"a": "passed", "b": "passed"}


def test_bare_words(folder):
    folder.file("wolfbane.toml", SUITE + "bare_words = true\n")
    folder.file(
        "t/fees.js",
        """
        describe('fees', function () {
          before(function (done) { this.rate = 3; setTimeout(done, 1) });
          it('by length', function () { if (this.rate !== 3) throw new Error('no rate') });
          it('with done', (done) => setTimeout(done, 1));
          it('refused', (done) => done(new Error('refused')));
          it('pending');
          it('skips itself', function () { this.skip() });
          it('is late', function (done) { this.timeout(20) });
          context('at night', () => { it('doubles', async () => {}) });
          it.skip('skipped', () => {});
        });
        """,
    )
    assert named(folder.run()) == {
        "fees / by length": "passed",
        "fees / with done": "passed",
        "fees / refused": "errored",
        "fees / pending": "todo",
        "fees / skips itself": "skipped",
        "fees / is late": "timed out",
        "fees / at night / doubles": "passed",
        "fees / skipped": "skipped",
    }


def test_focus(folder):
    folder.file("wolfbane.toml", SUITE + "bare_words = true\n")
    folder.file("t/a.js", "it('a', () => {});\nit.only('b', () => {});")
    folder.file(
        "t/deep.js",
        "describe.only('d', () => { describe('e', () => { it('f', () => {}) }) });\n"
        "describe.only('g', () => { it('h', () => {}); it.only('i', () => {}) });",
    )
    assert named(folder.run("t/deep.js")) == {"d / e / f": "passed", "g / i": "passed"}
    (folder.path / "t/deep.js").unlink()
    run = folder.run()
    assert named(run) == {"b": "passed"} and run.code == 0
    assert "focus" in run.out and "t/a.js:2" in run.out and "1 by focus" in run.out
    strict = folder.run("--no-focus")
    assert named(strict) == {"a": "passed", "b": "passed"} and strict.code == 1
    assert named(folder.run("--everything")) == {"a": "passed", "b": "passed"}


MARKS = {
    "import test from 'node:test';\ntest.only('a', () => {});": [2],
    "import { only } from 'node:test';\nonly('a', () => {});": [2],
    "import { describe, it as i } from 'node:test';\ndescribe('s', () => {\n i.only('a'); });": [3],
    "import * as t from 'node:test';\nt.describe.only('s', () => { t.it('a', () => {}); });": [2],
    "import test from 'node:test';\ntest('o', async (t) => {\n"
    " await t.test('a', { only: true }, () => {}); });": [3],
    "import test from 'node:test';\nconst how = { only: true };\ntest('a', how, () => {});": [3],
    "import test from 'node:test';\ntest('a', { only: false }, () => {});": [],
}


@pytest.mark.parametrize("source", MARKS)
def test_only_marks_that_the_runtime_ignores_are_named(folder, source):
    folder.file("t/a.test.mjs", source)
    run = folder.run()
    assert run.code == 0
    assert all(f"t/a.test.mjs:{line}" in run.text for line in MARKS[source])
    assert ("focus" in run.text) == bool(MARKS[source])
    assert folder.run("--no-focus").code == (1 if MARKS[source] else 0)
    only = folder.run("--", "--test-only").outcomes.values()
    told = subprocess.run(
        ["node", "--test-only", "--test-reporter=tap", "t/a.test.mjs"],
        cwd=folder.path,
        capture_output=True,
        text=True,
        check=False,
    ).stdout
    ran = re.search(r"\bok \d+ - a$", told, re.MULTILINE) is not None
    assert ("passed" in only) == ran


def test_titles_that_look_nested_do_not_collide(folder):
    folder.file(
        "t/a.test.mjs",
        """
        import { describe, it } from 'node:test';
        describe('GET', () => { it('POST', () => {}); });
        describe('GET / POST', () => { it('c', () => {}); });
        it('GET / POST', () => { throw new Error('lost'); });
        it('GET / POST (2)', () => {});
    """,
    )
    assert named(folder.run()) == {
        "GET / POST": "passed",
        "GET / POST (2) / c": "passed",
        "GET / POST (3)": "errored",
        "GET / POST (2) (2)": "passed",
    }
    listed = json.loads(folder.call("list", "--as", "json").out)
    assert sorted(row["name"] for row in listed) == sorted(named(folder.run()))


def test_focus_in_the_runtime_s_own_way(folder):
    folder.file("wolfbane.toml", SUITE + 'options = ["--test-only"]\n')
    folder.file(
        "t/a.test.cjs",
        """
        const { test } = require('node:test');
        test('out', () => {});
        test.only('in', async (t) => {
          t.runOnly(true);
          await t.test('inner', { only: true }, () => {});
          await t.test('other', () => {});
        });
        """,
    )
    assert named(folder.run()) == {"in": "passed", "in / inner": "passed", "in / other": "skipped"}


def test_lost_processes_cost_their_own_test(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file(
        "t/lost.test.cjs",
        """
        const { test } = require('node:test');
        test('first', () => {});
        test('hangs', () => { for (;;); });
        test('exits', () => process.exit(3));
        test('outer', async (t) => {
          await t.test('fine', () => {});
          await t.test('deadly', () => { console.log('goodbye'); process.kill(process.pid, 9); });
        });
        test('last', () => {});
        """,
    )
    run = folder.run("--timeout", "1s")
    assert named(run) == {
        "first": "passed",
        "hangs": "timed out",
        "exits": "crashed",
        "outer": "crashed",
        "outer / fine": "passed",
        "outer / deadly": "crashed",
        "last": "passed",
    }
    assert run.results["t/lost.test.cjs#outer / deadly"]["output"] == "goodbye\n"


BROKEN = {
    "syntax.test.mjs": ("import 'node:test';\nlet x = ;", "errored", 2),
    "syntax.test.cjs": ("require('node:test');\nlet x = ;", "errored", 2),
    "throws.test.js": ("require('node:test');\n\nthrow new Error('early')", "errored", 3),
    "stuck.test.mjs": ("import 'node:test';\nawait new Promise(() => {});", "errored", None),
}


@pytest.mark.parametrize("name", BROKEN)
def test_files_that_cannot_be_loaded(folder, name):
    source, outcome, line = BROKEN[name]
    folder.file("wolfbane.toml", SUITE)
    folder.file(f"t/{name}", source)
    folder.file("t/good.test.js", "require('node:test').test('good', () => {});")
    run = folder.run()
    assert run.outcomes == {f"t/{name}": outcome, "t/good.test.js#good": "passed"}
    assert run.code == 1
    assert [frame["line"] for frame in run.results[f"t/{name}"]["frames"][-1:]] == [line][
        : bool(line)
    ]


def test_an_error_after_its_test_is_not_lost(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file(
        "t/a.test.cjs",
        "const { test } = require('node:test');\n"
        "test('stray', () => { setTimeout(() => { throw new Error('adrift') }, 1) });\n"
        "test('later', () => new Promise((r) => setTimeout(r, 50)));",
    )
    run = folder.run()
    assert "adrift" in run.results["t/a.test.cjs"]["message"] and run.code == 1


def test_a_file_without_a_test_is_named(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file("t/empty.test.js", "console.log('nothing')")
    run = folder.run()
    assert run.code == 3
    folder.file("t/good.test.js", "require('node:test').test('good', () => {});")
    assert "no tests in  t/empty.test.js" in folder.run().out


def test_a_server_left_open_does_not_hold_the_run(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file(
        "t/a.test.cjs",
        "require('node:http').createServer().listen(0);\nrequire('node:test').test('a', () => {});",
    )
    assert named(folder.run("--timeout", "20s")) == {"a": "passed"}


def test_no_runtime_blocks_its_suite_alone(folder):
    folder.file("wolfbane.toml", SUITE + 'node = "nodeless"\n')
    folder.file("t/a.test.js", "require('node:test').test('a', () => {});")
    run = folder.run()
    assert (run.code, set(run.outcomes.values())) == (4, {"blocked"})
    assert "nodeless" in run.out


def test_a_promise_that_is_never_settled_costs_its_test_alone(folder):
    folder.file("wolfbane.toml", SUITE)
    folder.file(
        "t/a.test.cjs",
        """
        const { test, describe, it } = require('node:test');
        const never = () => new Promise(() => {});
        test('one', () => {});
        test('waits', never);
        test('three', () => {});
        describe('quay', () => { it('five', () => {}); it('waits', never); it('six', () => {}); });
        describe('hook', () => { require('node:test').before(never); it('seven', () => {}); });
        test('eight', () => {});
        """,
    )
    run = folder.run()
    bad = {"waits", "quay / waits", "hook / seven"}
    assert named(run) == {
        name: "errored" if name in bad else "passed"
        for name in (
            "one",
            "waits",
            "three",
            "quay / five",
            "quay / waits",
            "quay / six",
            "hook / seven",
            "eight",
        )
    }
    said = {run.results[f"t/a.test.cjs#{name}"]["message"] for name in bad}
    assert said == {"the test never finished: it awaits a promise that is never settled"}


def test_a_test_that_changes_its_process_is_named(folder):
    folder.file(
        "t/a.test.cjs",
        """
        const { test } = require('node:test');
        const os = require('node:os');
        test('tidy', (t) => { t.mock.method(Date, 'now', () => 3); });
        test('leaves', () => {
          process.chdir(os.tmpdir());
          delete process.env.HOME;
          Math.random = () => 4;
        });
        test('sees it', () => { if (Math.random() !== 4) throw new Error('put back'); });
    """,
    )
    run = folder.run()
    assert set(named(run).values()) == {"passed"}
    changes = "working folder changed; environment variables changed or removed: HOME; Math.random"
    assert f"a.test.cjs#leaves changed its process ({changes} replaced)" in run.text
    assert run.text.count("changed its process") == 1


def test_inside_of_a_test_of_the_runtime_itself(folder):
    folder.file("t/a.test.cjs", "require('node:test')('a', () => {});")
    assert named(folder.run(NODE_TEST_CONTEXT="child-v8")) == {"a": "passed"}
