"""``--share`` cuts a plan for several jobs, ``join`` makes one run of their records."""

from __future__ import annotations

import json
import shutil
import tarfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Folder, present
from wolfbane.planning.shares import Unit, cut

HARBOUR = Path(__file__).parent.parent / "src/wolfbane/demo/harbour"
SETTINGS = """
    [workspace]
    name = "Quay"
    [[suite]]
    name = "quay"
    kind = "python"
    paths = ["tests"]
    divide_files = true
    [param.berth]
    default = "A1"
    [env.local]
    [env.staging]
"""

units = st.lists(
    st.tuples(st.text(max_size=3), st.integers(1, 4), st.sampled_from([0.0, 0.01, 0.5, 3.0])),
    max_size=30,
    unique_by=lambda item: item[0],
).map(
    lambda items: [
        Unit(key, tuple(f"{key}#{n}" for n in range(count)), weight) for key, count, weight in items
    ]
)


@given(units, st.integers(1, 7), st.randoms(use_true_random=False))
def test_shares_are_disjoint_complete_and_the_same_in_any_order(result, of, shuffle):
    shares = cut(result, of)
    assert len(shares) == of
    every = [address for share in shares for address in share]
    assert sorted(every) == sorted(address for unit in result for address in unit.addresses)
    for unit in result:
        assert sum(unit.addresses[0] in share for share in shares) == 1
        assert any(set(unit.addresses) <= share for share in shares)
    other = list(result)
    shuffle.shuffle(other)
    assert cut(other, of) == shares
    loads = [sum(u.weight for u in result if u.addresses[0] in share) for share in shares]
    longest = max((unit.weight for unit in result), default=0.0)
    assert max(loads) <= sum(loads) / of + longest + 1e-6


@pytest.fixture
def quay(folder):
    """Classes of several sizes, a file that cannot be loaded, and one failure."""
    folder.file("wolfbane.toml", SETTINGS)
    for number in range(5):
        folder.file(
            f"tests/test_{number}.py",
            f"""
            import unittest
            class One(unittest.TestCase):
                def test_a(self): self.assertNotEqual({number}, 3)
                def test_b(self): pass
            class Two(unittest.TestCase):
                def test_c(self): pass
            # {"filling " * 50 * number}
        """,
        )
    folder.file("tests/test_broken.py", "import nothing_of_that_name\ndef test_d(): pass\n")
    return folder


def share(quay, number, of, *arguments, to="out"):
    done = quay.run(
        "--share", f"{number}/{of}", *arguments, "--report", f"record={to}/{number}.tar.gz"
    )
    assert done.code in (0, 1), done.out + done.err
    return done


def join(quay, *arguments):
    done = quay.call("join", *arguments, "--report", "json=joined.json")
    file = quay.path / "joined.json"
    whole = json.loads(file.read_text()) if file.exists() else {"results": []}
    file.unlink(missing_ok=True)
    done.results = {each["address"]: each for each in whole["results"]}
    return done, whole


def test_three_shares_are_joined_to_what_one_run_is(quay):
    whole = quay.run()
    result = [share(quay, number, 3) for number in (1, 2, 3)]
    assert "3: " in result[1].out
    assert "divided by file sizes" in result[1].text
    sets = [set(each.results) for each in result]
    assert all(sets)
    assert sum(map(len, sets)) == len(set.union(*sets)) == len(whole.results)
    assert result[0].outcomes | result[1].outcomes | result[2].outcomes == whole.outcomes
    joined, record = join(quay, "out")
    assert (joined.outcomes, joined.code) == (whole.outcomes, whole.code)
    assert record["finished"]["counts"] == {"passed": 14, "failed": 1, "errored": 1}
    assert record["started"]["tests"] == 16
    assert {each["worker"] for each in record["results"]} - {0} != {1}
    assert quay.call("show", "last").out.count("2 of 16 tests failed") == 1
    again = quay.call("again", "--failed", "--print-command").out
    assert "--share" not in again
    assert "tests/test_3.py#One / test_a" in again
    for group in {a.rpartition(" / ")[0] for a in whole.results if " / " in a}:
        assert sum(any(a.startswith(f"{group} / ") for a in each) for each in sets) == 1


def test_a_share_that_was_run_twice_counts_once(quay):
    share(quay, 1, 2, to="first")
    share(quay, 2, 2)
    share(quay, 1, 2)
    joined, record = join(quay, "first", "out")
    assert len(joined.results) == 16
    newest = json.loads(quay.call("runs", "--as", "json").out)
    assert record["started"]["began"] > newest[-1]["began"]


def test_missing_and_cut_off_shares_are_named(quay):
    share(quay, 1, 3)
    share(quay, 3, 3)
    joined, record = join(quay, "out")
    assert (joined.code, "share 2 of 3 is missing" in joined.text) == (1, True)
    assert record["finished"]["unrun"] == 16 - len(joined.results)
    share(quay, 2, 3)
    with tarfile.open(quay.path / "out" / "2.tar.gz") as packed:
        packed.extractall(quay.path / "two", filter="data")
    (quay.path / "out" / "2.tar.gz").unlink()
    (journal,) = (quay.path / "two").rglob("journal.jsonl")
    journal.write_bytes(b"".join(journal.read_bytes().splitlines(keepends=True)[:-2]))
    joined, record = join(quay, "out", "two")
    assert (joined.code, "share 2 of 3 was interrupted" in joined.text) == (1, True)
    assert record["finished"]["unrun"] == 1


@pytest.mark.parametrize(
    ("other", "message"),
    [
        (["--name", "test_a"], "share 2 has another selection: name:test_a; share 1 has everyth"),
        (["--set", "berth=B2"], "share 2 has other parameters: berth=B2; share 1 has berth=A1"),
        (["--env", "staging"], "share 2 has another environment: staging; share 1 has local"),
    ],
)
def test_shares_of_different_plans_are_refused(quay, other, message):
    first = ["--env", "local"] if "--env" in other else []
    share(quay, 1, 2, *first)
    share(quay, 2, 2, *other)
    wrong, _ = join(quay, "out")
    assert (wrong.code, wrong.results) == (2, {})
    assert message in " ".join(wrong.err.split())


def test_other_sources_and_other_numbers_are_refused(quay):
    share(quay, 1, 2)
    share(quay, 2, 3)
    assert "is one of 3 shares, but share 1 is one of 2 shares" in join(quay, "out")[0].err
    with (quay.path / "tests" / "test_1.py").open("a") as file:
        file.write("# changed\n")
    share(quay, 2, 2)
    message = "has other sources: these files differ from those of share 1: tests/test_1.py"
    assert message in " ".join(join(quay, "out")[0].err.split())
    quay.run()
    for folder, message in {
        "tests": "it contains no record of a run",
        "lost": "there is no such folder",
        "wolfbane.toml": "neither the folder nor an archive",
        "bad.tgz": "cannot unpack the archive",
        ".wolfbane": "is not a share; run a share with, for example, --share 1/2",
    }.items():
        (quay.path / "bad.tgz").write_text("no archive")
        wrong, _ = join(quay, folder)
        assert (wrong.code, message in wrong.err) == (2, True), wrong.err


@pytest.mark.parametrize(
    ("given", "code", "message"),
    [
        ("2", 2, "'2' is not a share; for example, 2/5"),
        ("3/2", 2, "there is no share 3 of 2"),
        ("0/2", 2, "there is no share 0 of 2"),
        ("1/9999", 2, "the number of shares must be between 1 and 1000, not 9999"),
        ("900/900", 3, "share 900 of 900 is empty: the plan can be divided into 11 parts only"),
    ],
)
def test_shares_that_are_none(quay, given, code, message):
    done = quay.run("--share", given)
    assert (done.code, message in " ".join(done.err.split())) == (code, True), done.err


@pytest.mark.parametrize("number", [1, 2, 3])
def test_a_list_and_a_dry_run_know_shares(quay, number):
    which = f"{number}/3"
    ran = {a for a in share(quay, number, 3).results if "broken" not in a}
    listed = json.loads(quay.call("list", "--share", which, "--as", "json").out)
    assert {row["address"] for row in listed} == ran
    plan = quay.call("run", "--share", which, "--dry-run").out.splitlines()
    assert {line for line in plan if "#" in line} == ran
    wrong = quay.call("list", "--share", "4/3")
    assert (wrong.code, "there is no share 4 of 3" in wrong.err) == (2, True)


def test_a_helper_that_differs_is_named(quay):
    quay.file("tests/test_0.py", "import quay_helper\ndef test_a(): assert quay_helper.LENGTH\n")
    quay.file("tests/quay_helper.py", "LENGTH = 3\n")
    share(quay, 1, 2)
    quay.file("tests/quay_helper.py", "LENGTH = 4\n")
    share(quay, 2, 2)
    refused = join(quay, "out")[0]
    assert (refused.code, "share 1: tests/quay_helper.py" in " ".join(refused.err.split())) == (
        2,
        True,
    )


@pytest.mark.skipif(not present("git"), reason="git is not installed")
def test_durations_that_are_the_same_for_all_jobs(quay):
    quay.file(".gitignore", "*.json\nout\n.wolfbane\n")
    quay.file(
        "tests/test_slow.py",
        """
        import time, unittest
        class A(unittest.TestCase):
            def test_long(self): time.sleep(0.2)
        class B(unittest.TestCase):
            def test_long(self): time.sleep(0.2)
    """,
    )
    quay.git("init", "--quiet")
    quay.git("add", "--all")
    quay.git("commit", "--quiet", "--message", "one", GIT_COMMITTER_DATE="2020-01-01T00:00:00Z")
    quay.run()
    assert "divided by file sizes" in share(quay, 1, 2).text, "all runs are after the commit"
    later = {"GIT_COMMITTER_DATE": "2099-01-01T00:00:00Z"}
    quay.git("commit", "--quiet", "--amend", "--no-edit", **later)
    both = [share(quay, number, 2) for number in (1, 2)]
    assert all("divided by recorded durations" in each.text for each in both)
    slow = [[a for a in each.results if "long" in a] for each in both]
    assert [len(each) for each in slow] == [1, 1]
    assert join(quay, "out")[0].code == 1


def test_the_demo_in_three_shares(tmp_path):
    shutil.copytree(HARBOUR, tmp_path / "harbour")
    harbour = Folder(tmp_path / "harbour")
    chosen = ("--suite", "workflows,fees,rules,quay-log")
    whole = harbour.run(*chosen)
    for number in (1, 2, 3):
        share(harbour, number, 3, *chosen)
    joined, record = join(harbour, "out")
    assert joined.outcomes == whole.outcomes
    assert joined.code == whole.code
    kept = record["results"]
    (har,) = [e["path"] for r in kept if "pumpRuns" in r["address"] for e in r["evidence"]]
    run = record["started"]["run"]
    assert (harbour.path / ".wolfbane" / "runs" / run / har).is_file()
    assert "covered" in joined.out
