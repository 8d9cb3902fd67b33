"""What is remembered of test files: after damage, with several runs at once, in many files."""

from __future__ import annotations

import json
import os
import subprocess

import pytest

from wolfbane.inventory.cache import FORMAT, Cache, look
from wolfbane.model import Test as Known
from wolfbane.model import TestFile as KnownFile

TIDES = "def test_high(): pass\n\ndef test_low(): pass\n"
SETTINGS = '[[suite]]\nname = "tides"\nkind = "python"\npaths = ["tests"]\n'
NAMES = ["test_high", "test_low"]


@pytest.fixture
def tides(folder):
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("tests/test_tides.py", TIDES)
    return folder


def listed(folder, *arguments):
    run = folder.call("list", "--as", "json", *arguments)
    assert run.code == 0, run.err
    return json.loads(run.out)


@pytest.mark.parametrize(
    "damage",
    [
        "",
        "{",
        "[]",
        "null",
        '{"format": 1, "files": {}}',
        f'{{"format": {FORMAT}, "files": []}}',
        "entry",
        "cut",
    ],
)
def test_a_damaged_cache_is_not_used(tides, damage):
    assert [test["name"] for test in listed(tides)] == NAMES
    cache = tides.path / ".wolfbane" / "inventory.json"
    whole = cache.read_text()
    if damage == "entry":
        files = {key: {"settings": 3, "tests": 5} for key in json.loads(whole)["files"]}
        damage = json.dumps({"format": FORMAT, "files": files})
    cache.write_text(whole[: len(whole) // 2] if damage == "cut" else damage)
    assert [test["name"] for test in listed(tides)] == NAMES
    assert cache.read_text() == whole


def test_an_entry_without_its_parts_is_read_anew(tides):
    listed(tides)
    cache = tides.path / ".wolfbane" / "inventory.json"
    data = json.loads(cache.read_text())
    [entry] = data["files"].values()
    for key in list(entry):
        cut = {name: value for name, value in entry.items() if name != key}
        cache.write_text(
            json.dumps({"format": FORMAT, "files": {"tides:tests/test_tides.py": cut}})
        )
        assert [test["name"] for test in listed(tides)] == NAMES, key


def test_content_decides_not_the_clock(tides):
    listed(tides)
    file = tides.path / "tests" / "test_tides.py"
    before = file.stat()
    file.write_text(TIDES.replace("high", "neap"))
    os.utime(file, ns=(before.st_atime_ns, before.st_mtime_ns + 1))
    assert [test["name"] for test in listed(tides)] == ["test_neap", "test_low"]


def test_several_at_once_lose_nothing(tides):
    tides.file("tests/test_more.py", TIDES)
    commands = [
        subprocess.Popen(
            tides.command("list", "--as", "json"),
            cwd=tides.path,
            env=tides.environment(),
            stdout=subprocess.PIPE,
        )
        for _ in range(4)
    ]
    said = {command.communicate()[0] for command in commands}
    assert [command.returncode for command in commands] == [0] * 4
    assert len(said) == 1
    files = json.loads((tides.path / ".wolfbane" / "inventory.json").read_text())["files"]
    assert sorted(files) == ["tides:tests/test_more.py", "tides:tests/test_tides.py"]
    assert not list((tides.path / ".wolfbane").glob("inventory.json.*"))


def test_what_another_run_wrote_stays(tmp_path):
    for name in ("a", "b", "c"):
        (tmp_path / name).write_text(name)
    folder = tmp_path / "inventory.json"

    def keep(cache, name, *tests):
        result = tuple(Known("s", "python", name, test) for test in tests)
        seen, _ = look(tmp_path / name)
        cache.keep(tmp_path, name, "s", "python x", seen, KnownFile(name, "s", "python", result))

    first = Cache(folder)
    keep(first, "a", "old")
    keep(first, "b", "old")
    first.save()
    one, other = Cache(folder), Cache(folder)
    for cache in (one, other):
        for name in ("a", "b"):
            assert cache.look_up(tmp_path, name, "s", "python x")[0]
    keep(one, "a", "new")
    keep(other, "c", "new")
    one.save()
    other.save()
    last = Cache(folder)
    results = [last.look_up(tmp_path, name, "s", "python x")[1] for name in ("a", "b", "c")]
    assert [file and file.tests[0].name for file in results] == ["new", "old", "new"]


def test_many_files_are_read_by_several_processes(folder):
    folder.file("wolfbane.toml", SETTINGS)
    for number in range(420):
        tag = "# tags: smoke\n" if number % 2 else ""
        folder.file(f"tests/test_{number:03}.py", f"{tag}def test_{number}(): pass\n")
    folder.file("tests/test_wrong.py", "def test_(:\n")
    result = listed(folder)
    assert [test["name"] for test in result] == [f"test_{number}" for number in range(420)]
    assert len(listed(folder, "--tag", "smoke")) == 210
    assert "test_wrong.py" in folder.call("list").err


def test_a_plan_of_known_files_loads_none_of_them(folder):
    source = "import pathlib\npathlib.Path('loaded').touch()\ndef test_a(): pass\n"
    folder.file("test_a.py", source)
    assert folder.run().outcomes == {"test_a.py#test_a": "passed"}
    (folder.path / "loaded").unlink()
    assert "test_a.py#test_a" in folder.call("run", "--dry-run").out
    assert not (folder.path / "loaded").exists()
    folder.file("test_a.py", f"{source}def test_b(): pass\n")
    assert "test_a.py#test_b" in folder.call("run", "--dry-run").out
    assert (folder.path / "loaded").exists(), "what has changed is loaded"
