"""The history: runs and tests over time, on SQLite and on a PostgreSQL of the tests' own."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
import sqlalchemy as sa

from conftest import Folder
from wolfbane.results.history import migrations
from wolfbane.results.history.database import NAME, Database, _with_driver
from wolfbane.results.history.entries import RunEntry
from wolfbane.results.history.queries import stands_out
from wolfbane.results.history.store import Store
from wolfbane.results.history.store import TestEnd as Ending
from wolfbane.workspace.identity import Identity

PLACE = "test_quay.py#"
SUITE = """
    import os

    def test_steady():
        pass

    def test_moody():
        assert os.environ.get("MOOD") != "bad"
"""
SERVERS = sorted(Path("/usr/lib/postgresql").glob("*/bin")) if shutil.which("psql") else []


def _as_server(*command):
    """PostgreSQL does not run as root."""
    return ["runuser", "-u", "nobody", "--", *command] if os.geteuid() == 0 else list(command)


@pytest.fixture(scope="module")
def postgresql():
    """The URL of a server that is made for these tests."""
    if not SERVERS:
        pytest.skip("PostgreSQL is not here")
    programs = SERVERS[-1]
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o777)
        data = f"{folder}/data"
        made = [programs / "initdb", "-D", data, "-U", "quay", "--auth=trust", "--no-sync"]
        subprocess.run(_as_server(*made), check=True, capture_output=True, cwd=folder)
        options = f"-k {folder} -c listen_addresses="
        control = _as_server(
            programs / "pg_ctl", "-D", data, "-o", options, "-l", f"{folder}/log", "-w"
        )
        subprocess.run([*control, "start"], check=True, capture_output=True, cwd=folder)
        yield f"postgresql://quay@/postgres?host={folder}"
        subprocess.run(
            [*control, "-m", "immediate", "stop"], check=True, capture_output=True, cwd=folder
        )


@pytest.fixture(params=["sqlite", "postgresql"])
def url(request):
    """Where the history is; nothing for the workspace's own."""
    if request.param == "sqlite":
        return ""
    url = request.getfixturevalue("postgresql")
    import psycopg

    with psycopg.connect(url, autocommit=True) as line:
        line.execute("DROP TABLE IF EXISTS results, tests, runs, alembic_version")
    return url


@pytest.fixture
def quay(folder, url):
    folder.file("test_quay.py", SUITE)
    folder.file("wolfbane.toml", '[[suite]]\nname = "q"\nkind = "python"\npaths = ["test_*.py"]\n')
    folder.history = {"WOLFBANE_HISTORY": url} if url else {}
    return folder


def test_runs_and_tests_over_time(quay):
    for mood in ("good", "bad", "good"):
        quay.run("--retries", "0", MOOD=mood, **quay.history)
    quay.run("--name", "steady", **quay.history)
    listed = json.loads(quay.call("history", "--as", "json", **quay.history).out)
    assert [run["counts"] for run in listed] == [
        {"passed": 1},
        {"passed": 2},
        {"passed": 1, "failed": 1},
        {"passed": 2},
    ]
    assert [run["exit_code"] for run in listed] == [0, 0, 1, 0]
    told = json.loads(quay.call("history", "test_quay.py", "--as", "json", **quay.history).out)
    [steady, moody] = sorted(told, key=lambda test: test["address"] != f"{PLACE}test_steady")
    assert (steady["runs"], steady["passed"], steady["stable"]) == (4, 4, 4)
    assert (moody["runs"], moody["passed"], moody["stable"]) == (3, 2, 1)
    assert [run["outcome"] for run in moody["ended"]] == ["passed", "failed", "passed"]
    table = quay.call("history", "--name", "moody", **quay.history).out
    assert (
        re.search(r" \.F\. +2 of 3 +0% ", table)
        and "the newest run is on the right:  . passed" in table
    )
    picture = quay.call("history", "test_quay.py", "--picture", "out.png", **quay.history)
    assert (quay.path / "out.png").read_bytes().startswith(b"\x89PNG"), picture.err


def test_several_runs_write_at_once(quay, url):
    Store(quay.path, url)

    def add(number):
        ended = [Ending(f"t#{n}", "s", "passed", 0.1) for n in range(300)]
        run = RunEntry(f"run-{number}", "2026-06-01T00:00:00+00:00", 1.0, 0, {"passed": 300})
        return Store(quay.path, url).add(run, ended)

    with ThreadPoolExecutor(6) as workers:
        assert list(workers.map(add, [*range(12), 3])).count(True) == 12
    store = Store(quay.path, url)
    entries = store.runs(50)
    assert len(entries) == 12
    result = store.history(["t#7"], entries)["t#7"]
    assert len(result) == 12


def test_a_history_that_is_damaged_or_newer_or_away_is_said(folder):
    folder.file("test_quay.py", SUITE)
    folder.run()
    assert folder.call("history").code == 0
    history = folder.path / ".wolfbane" / "history.sqlite"
    import sqlite3

    with sqlite3.connect(history) as line:
        line.execute("UPDATE alembic_version SET version_num = '9999'")
    newer = folder.call("history")
    assert (
        newer.code,
        "was written by a newer version of Wolfbane (schema 9999)" in newer.err,
    ) == (2, True)
    for left in history.parent.glob("history.sqlite-*"):
        left.unlink()
    history.write_bytes(b"no database at all" * 100)
    damaged = folder.call("history")
    assert (
        damaged.code,
        "move the file to another place; a new history will then be created" in damaged.err,
    ) == (2, True)
    assert folder.run().code == 0
    history.unlink()
    assert len(json.loads(folder.call("history", "--as", "json").out)) == 2
    away = folder.run(WOLFBANE_HISTORY="postgresql://quay@127.0.0.1:1/none")
    assert (away.code, "this run was not added to the team's history" in away.err) == (0, True)


def test_old_runs_are_taken_away_and_stay_known(folder):
    folder.file("test_quay.py", SUITE)
    for _ in range(3):
        folder.run()
    listed = json.loads(folder.call("runs", "--as", "json").out)
    assert len(listed) == 3 and all(run["bytes"] > 500 for run in listed)
    assert folder.call("runs").out.splitlines()[-1].startswith("3 runs, ")
    planned = folder.call("clean", "--keep", "1", "--dry-run")
    assert planned.out.startswith("would remove 2 runs")
    assert folder.call("clean", "--keep", "1", "--older-than", "1h").out.startswith("removed 0")
    assert folder.call("clean", "--keep", "1").out.startswith("removed 2 runs")
    kept = json.loads(folder.call("runs", "--as", "json").out)
    assert [run["run"] for run in kept] == [listed[0]["run"]]
    assert len(json.loads(folder.call("history", "--as", "json").out)) == 3
    assert (folder.call("clean").code, folder.call("clean", "--older-than", "x").code) == (2, 2)


def test_the_settings_say_what_is_kept(folder):
    suite = '[[suite]]\nname = "quay"\nkind = "python"\npaths = ["test_quay.py"]\n'
    folder.file("wolfbane.toml", suite)
    folder.file("test_quay.py", SUITE)
    folder.run()
    runs = folder.path / ".wolfbane" / "runs"
    [first] = runs.iterdir()
    first.rename(runs / "20200101-000000-aaaa")
    folder.run()
    folder.file("wolfbane.toml", suite + "[keep]\nruns = 2\n")
    folder.run()
    names = [run["run"] for run in json.loads(folder.call("runs", "--as", "json").out)]
    assert len(names) == 2 and "20200101-000000-aaaa" not in names
    assert len(json.loads(folder.call("history", "--as", "json").out)) == 3
    old = {
        "summary": {"start": 1_700_000_000_000},
        "tests": [{"name": "a", "status": "passed", "duration": 1}],
    }
    folder.file("old.json", json.dumps({"results": old}))
    folder.call("import", "old.json")
    assert len(json.loads(folder.call("history", "--as", "json").out)) == 4
    folder.file("wolfbane.toml", suite + '[keep]\nhistory = "30d"\n')
    folder.run()
    assert len(json.loads(folder.call("history", "--as", "json").out)) == 4
    folder.file("wolfbane.toml", suite + '[keep]\nevidence = "soon"\n')
    refused = folder.call("list")
    assert (refused.code, "wolfbane.toml:6" in refused.err) == (2, True)


def test_what_stands_out_of_noise():
    steady = [1.0, 1.02, 0.98, 1.01, 0.99, 1.0]
    assert stands_out(1.6, steady)
    assert not stands_out(1.04, steady)
    assert not stands_out(1.6, steady[:4])
    assert not stands_out(2.0, [0.5, 2.5, 1.0, 3.0, 0.2, 1.8])
    assert stands_out(0.5, [0.1] * 6) and not stands_out(0.15, [0.1] * 6)


def _as_of_the_first_version(url, folder):
    """A history as the first version of its tables had it: no test with an environment."""
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(migrations.__file__).parent))
    engine = sa.create_engine(_with_driver(url) if url else f"sqlite:///{folder / NAME}")
    with engine.begin() as line:
        config.attributes["connection"] = line
        command.upgrade(config, "0001")
        for number, target in enumerate(["", "staging", "local,staging"], 1):
            line.execute(
                sa.text(
                    "INSERT INTO runs (id, name, began, seconds, exit_code, target, command, "
                    "expression, counts, origin) VALUES (:id, :name, '2026-01-01', 1, 0, :target, "
                    "'', '', '{}', 'run')"
                ),
                {"id": number, "name": f"r{number}", "target": target},
            )
        addresses = ["a", "a @firefox", "a @local", "a @staging"]
        for number, address in enumerate(addresses, 1):
            line.execute(
                sa.text("INSERT INTO tests (id, address, suite) VALUES (:id, :address, 'q')"),
                {"id": number, "address": address},
            )
        for test, run in [(1, 1), (2, 1), (1, 2), (2, 2), (3, 3), (4, 3)]:
            line.execute(
                sa.text(
                    "INSERT INTO results (test_id, run_id, outcome, seconds, attempts, message) "
                    "VALUES (:test, :run, 'passed', 1, 1, '')"
                ),
                {"test": test, "run": run},
            )
        if url:  # numbers were given by hand here
            line.execute(sa.text("SELECT setval('tests_id_seq', 100)"))
            line.execute(sa.text("SELECT setval('runs_id_seq', 100)"))


def test_a_history_of_the_first_version_is_brought_up_to_date(tmp_path, url):
    _as_of_the_first_version(url, tmp_path)
    store = Store(tmp_path, url, Identity("name quay", "quay") if url else Identity())
    if url:  # a team's: runs from before have no workspace until one claims them
        assert (store.runs(9), store.unclaimed(), store.claim("", {"r1"})) == ([], 3, 1)
        assert ([run.name for run in store.runs(9)], store.claim("")) == (["r1"], 2)
    by_run = {
        run.name: sorted(e.address for e in store.results_of(run.id)) for run in store.runs(9)
    }
    assert by_run == {
        "r1": ["a", "a @firefox"],
        "r2": ["a @firefox @staging", "a @staging"],
        "r3": ["a @local", "a @staging"],
    }
    assert store.variants(["a", "a @firefox"]) == {
        "a": ["a", "a @local", "a @staging"],
        "a @firefox": ["a @firefox", "a @firefox @staging"],
    }
    added = RunEntry("r4", "2026-01-02", 1.0, 0, {}, "local")
    assert store.add(added, [Ending("a @local", "q", "failed", 1.0, environment="local")])
    assert next(run.name for run in store.runs_of(["a"], 9)) == "r4"


def _git(folder, *arguments):
    author = ["-c", "user.name=quay", "-c", "user.email=quay@harbour.example"]
    subprocess.run(["git", "-C", folder, *author, *arguments], check=True, capture_output=True)


@pytest.fixture
def two(tmp_path, url):
    """Two workspaces of one repository, with tests of the same name and one database."""
    shared = {"WOLFBANE_HISTORY": url or f"sqlite:///{tmp_path}/team.sqlite"}
    quays = []
    for name in ("east", "west"):
        quay = Folder(tmp_path / "harbour" / name)
        quay.file("test_quay.py", SUITE)
        quay.file("wolfbane.toml", '[workspace]\nname = "Quay"\n[keep]\nhistory = "30d"\n')
        quay.shared = shared
        quays.append(quay)
    _git(tmp_path / "harbour", "init", "-q")
    _git(tmp_path / "harbour", "add", ".")
    _git(tmp_path / "harbour", "commit", "-qm", "Two quays")
    return quays


def _listed(quay, *arguments):
    return json.loads(quay.call("history", *arguments, "--as", "json", **quay.shared).out)


def test_two_workspaces_in_one_history_are_kept_apart(two):
    east, west = two
    old = {
        "results": {
            "summary": {"start": 1_700_000_000_000},
            "tests": [{"name": "a", "status": "passed", "duration": 1}],
        }
    }
    for quay in two:
        quay.file("old.json", json.dumps(old))
        imported = quay.call("import", "old.json", **quay.shared)
        assert "1 test: 1 passed" in imported.out, "the other one's is not this one's"
    east.run("--retries", "0", MOOD="bad", **east.shared)
    west.run(**west.shared)
    assert "no run before" in west.call("compare", **west.shared).err, "a false 'mended'"
    assert [run["exit_code"] for run in _listed(west)] == [0], "its old run was cleaned up"
    [moody] = [t for t in _listed(west, "test_quay.py") if t["address"].endswith("moody")]
    assert (moody["runs"], moody["passed"]) == (1, 1)
    assert [run["exit_code"] for run in _listed(east)] == [1]
    everywhere = _listed(east, "--workspace", "all")
    assert [run["exit_code"] for run in everywhere] == [0, 1]
    assert len({run["workspace"] for run in everywhere}) == 2
    lines = [t for t in _listed(east, "-w", "all", "test_quay.py") if "moody" in t["address"]]
    assert sorted(test["passed"] for test in lines) == [0, 1]


def test_a_workspace_is_the_same_one_in_every_clone(two, tmp_path):
    east, _ = two
    east.run(**east.shared)
    clone = Folder(tmp_path / "clone" / "east")
    _git(tmp_path, "clone", "-q", f"file://{tmp_path}/harbour", "clone")
    assert len(json.loads(clone.call("history", "--as", "json", **east.shared).out)) == 1
    shallow = Folder(tmp_path / "shallow" / "east")
    _git(tmp_path / "harbour", "commit", "-qm", "Another", "--allow-empty")
    _git(tmp_path, "clone", "-q", "--depth", "1", f"file://{tmp_path}/harbour", "shallow")
    told = shallow.call("history", **east.shared)
    assert "set 'identity' in [workspace]" in told.err and "no runs are recorded" in told.err
    for quay in (clone, shallow):
        quay.file("wolfbane.toml", '[workspace]\nname = "Quay"\nidentity = "east-quay"\n')
    assert "no runs are recorded" in clone.call("history", **east.shared).err
    assert clone.call("history", "--claim", "quay", **east.shared).code == 2
    assert clone.call("history", "-w", "all", "--claim", "Quay", **east.shared).code == 2
    claimed = clone.call("history", "--claim", "Quay", **east.shared)
    assert (claimed.code, claimed.out) == (0, "assigned 1 run to this workspace\n")
    assert len(json.loads(shallow.call("history", "--as", "json", **east.shared).out)) == 1


def test_no_statement_of_a_server_waits_for_ever(postgresql, tmp_path):
    with Database(tmp_path, postgresql).transaction() as connection:
        assert connection.scalar(sa.text("SHOW statement_timeout")) == "2min"
