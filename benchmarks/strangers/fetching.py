"""Fetches trees with the ordinary clients of their indexes, into a cache elsewhere."""

from __future__ import annotations

import importlib.util
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
import zipfile
from pathlib import Path

from benchmarks.strangers.tables import Tree

CACHE = Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "wolfbane-strangers"
_GIT = ("git", "-c", "user.name=quay", "-c", "user.email=quay@harbour.example")


def call(*command: str, cwd: Path, **environment: str) -> str:
    """The output of a command. Raises RuntimeError with what it printed if it fails."""
    done = subprocess.run(
        command, cwd=cwd, env={**os.environ, **environment}, text=True, errors="replace",
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL, check=False,
    )  # fmt: skip
    if done.returncode:
        raise RuntimeError(f"{' '.join(command)}: exit code {done.returncode}\n{done.stdout}")
    return done.stdout


def fetched(title: str, tree: Tree) -> Path:
    """The folder of a tree, ready to be tested: a git repository with what it needs installed."""
    place = CACHE / f"{title}-{tree.version or sys.version.split()[0]}"
    if (place / ".git").is_dir():
        return place
    shutil.rmtree(place, ignore_errors=True)
    place.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=place.parent) as folder:
        {"pypi": _pypi, "interpreter": _interpreter}[tree.source](title, tree, Path(folder))
        next(Path(folder).iterdir()).rename(place)
    if tree.source == "pypi":  # not before: an environment has its own place in it
        _environment(tree, place)
    call("git", "init", "--quiet", cwd=place)
    (place / ".git/info/exclude").write_text(".venv\n.wolfbane\n")
    call("git", "add", "--all", "--force", "--", ".", ":!.venv", cwd=place)
    call(*_GIT, "commit", "--quiet", "--message", "As published", cwd=place)
    return place


def _pypi(title: str, tree: Tree, into: Path) -> None:
    """A source distribution, unpacked."""
    with tempfile.TemporaryDirectory() as folder:
        wanted = f"{tree.name or title}=={tree.version}"
        call(
            sys.executable, "-m", "pip", "download", "--quiet", "--no-deps", "--no-binary", ":all:",
            wanted, cwd=Path(folder),
        )  # fmt: skip
        _unpack(next(Path(folder).iterdir()), into)


def _unpack(archive: Path, into: Path) -> None:
    if archive.suffix == ".zip":
        zipfile.ZipFile(archive).extractall(into)
    else:
        with tarfile.open(archive) as packed:
            packed.extractall(into, filter="data")


def _environment(tree: Tree, place: Path) -> None:
    """The project and what its tests need, in an environment of its own."""
    call(sys.executable, "-m", "venv", ".venv", cwd=place)
    pip = str(place / ".venv/bin/python")
    if tree.install:
        call(pip, "-m", "pip", "install", "--quiet", *tree.install, cwd=place)


def _interpreter(title: str, tree: Tree, into: Path) -> None:
    """A module of the interpreter's own tests, with what all of them share."""
    found = importlib.util.find_spec("test.support")
    if found is None or not found.origin:
        raise RuntimeError("this interpreter comes without its own tests")
    source = Path(found.origin).parent.parent
    copy = into / "tree" / "test"
    shutil.copytree(source / "support", copy / "support")
    shutil.copy(source / "__init__.py", copy)
    for name in (title, *tree.install):
        for path in source.glob(f"{name}*" if name == title else name):
            exact = path.stem == name or name != title
            if exact and path.is_dir():
                shutil.copytree(path, copy / path.name)
            elif exact:
                shutil.copy(path, copy)
