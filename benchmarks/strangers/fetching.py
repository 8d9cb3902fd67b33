"""Fetches trees with the ordinary clients of their indexes, into a cache elsewhere."""

from __future__ import annotations

import importlib.util
import json
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
import zipfile
from pathlib import Path

from benchmarks.strangers.tables import Tree, parts_of

CACHE = Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "wolfbane-strangers"
ROOT = Path(__file__).parent.parent.parent
_CRATES = "usr/share/cargo/registry"
_GIT = ("git", "-c", "user.name=quay", "-c", "user.email=quay@harbour.example")


def call(*command: str, cwd: Path, **environment: str) -> str:
    """The output of a command. Raises RuntimeError with what it printed if it fails."""
    done = subprocess.run(
        command,
        cwd=cwd,
        env={**os.environ, **environment},
        text=True,
        errors="replace",
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        stdin=subprocess.DEVNULL,
        check=False,
    )
    if done.returncode:
        raise RuntimeError(f"{' '.join(command)}: exit code {done.returncode}\n{done.stdout}")
    return done.stdout


def fetched(title: str, tree: Tree) -> Path:
    """The folder of a tree, ready to be tested: a git repository with what it needs installed."""
    path = CACHE / f"{title}-{tree.version or sys.version.split()[0]}"
    if (path / ".git").is_dir():
        _lay_bridge(tree, path)  # which may be newer than the tree
        if tree.bridge and call("git", "status", "--porcelain", "--untracked-files=no", cwd=path):
            commit(path, "A newer bridge")
        return path
    shutil.rmtree(path, ignore_errors=True)
    path.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=path.parent) as folder:
        sources = {
            "pypi": _pypi,
            "npm": _npm,
            "debian": _debian,
            "crate": _crate,
            "interpreter": _interpreter,
            "mixed": _mixed,
        }
        sources[tree.source](title, tree, Path(folder))
        next(Path(folder).iterdir()).rename(path)
    if tree.source == "pypi":  # not before: an environment has its own place in it
        _environment(tree, path)
    _lay_bridge(tree, path)
    call("git", "init", "--quiet", cwd=path)
    (path / ".git/info/exclude").write_text(".venv\n.wolfbane\nnode_modules\ntarget\n")
    installed = (":!.venv", ":!node_modules", ":!target")
    call("git", "add", "--all", "--force", "--", ".", *installed, cwd=path)
    commit(path, "As published")
    return path


def _lay_bridge(tree: Tree, folder: Path) -> None:
    """Copy the bridge of a tree, with the scripts that it starts."""
    if not tree.bridge:
        return
    for file in (ROOT / tree.bridge).iterdir():
        if file.is_file():
            shutil.copy(file, folder)
    settings = '[[suite]]\nname = "all"\nkind = "bridge"\nbridge = "bridge.toml"\npaths = '
    (folder / "wolfbane.toml").write_text(f"{settings}{json.dumps(tree.own)}\n")


def commit(folder: Path, message: str) -> None:
    """Commit all changed files of a tree."""
    call(*_GIT, "commit", "--quiet", "--all", "--message", message, cwd=folder)


def _pypi(title: str, tree: Tree, into: Path) -> None:
    """A source distribution, unpacked."""
    with tempfile.TemporaryDirectory() as folder:
        wanted = f"{tree.name or title}=={tree.version}"
        call(
            sys.executable,
            "-m",
            "pip",
            "download",
            "--quiet",
            "--no-deps",
            "--no-binary",
            ":all:",
            wanted,
            cwd=Path(folder),
        )
        _unpack(next(Path(folder).iterdir()), into)


def _npm(title: str, tree: Tree, into: Path) -> None:
    """A published package, with the packages that it and its tests need."""
    with tempfile.TemporaryDirectory() as folder:
        wanted = f"{tree.name or title}@{tree.version}"
        call("npm", "pack", "--silent", wanted, cwd=Path(folder))
        _unpack(next(Path(folder).iterdir()), into)
    path = next(into.iterdir())
    manifest = (path / "package.json").read_bytes()
    call("npm", "pkg", "delete", "devDependencies", cwd=path)  # even those that are left out count
    quiet = ("--silent", "--ignore-scripts", "--no-audit", "--no-fund", "--no-package-lock")
    call("npm", "install", *quiet, *tree.install, cwd=path)
    (path / "package.json").write_bytes(manifest)


def _debian(title: str, tree: Tree, into: Path) -> None:
    """The upstream sources of a source package."""
    with tempfile.TemporaryDirectory() as folder:
        package = f"{tree.name or title}={tree.version}"
        _apt("source", "--download-only", "--tar-only", package, cwd=Path(folder))
        _unpack(next(Path(folder).glob("*.orig.tar.*")), into)


def _crate(title: str, tree: Tree, into: Path) -> None:
    """A crate as it is packaged, and beside it, in one folder, the crates that it needs."""
    crates = into.parent / f"{into.name}-crates"
    crates.mkdir()
    needed = (tree.name or title, *tree.install)
    for name in needed:
        with tempfile.TemporaryDirectory() as folder:
            _apt("download", f"librust-{name}-dev", cwd=Path(folder))
            [package] = Path(folder).glob("*.deb")
            call("dpkg-deb", "-x", str(package), str(crates / name), cwd=into)
    places = {name: next((crates / name / _CRATES).iterdir()) for name in needed}
    own = places.pop(tree.name or title)
    (own / ".cargo-checksum.json").unlink()
    shutil.move(own, into / "tree")
    for path in places.values():
        shutil.move(path, into / "tree/vendor" / path.name)
    (into / "tree/.cargo").mkdir()
    replaced = 'replace-with = "here"\n[source.here]\ndirectory = "vendor"\n'
    (into / "tree/.cargo/config.toml").write_text(f"[source.crates-io]\n{replaced}")
    (into / "tree/vendor").mkdir(exist_ok=True)
    shutil.rmtree(crates)


def _mixed(title: str, tree: Tree, into: Path) -> None:
    """A folder for each of several trees, as a repository of several projects has them."""
    for name, (_, part) in parts_of(tree).items():
        skipped = shutil.ignore_patterns(".git", ".wolfbane", "target")
        shutil.copytree(fetched(name, part), into / title / name, symlinks=True, ignore=skipped)


def _apt(*arguments: str, cwd: Path) -> None:
    """Run a command of Debian's client with its own lists, which have source packages, too."""
    home = CACHE / "apt"
    options = [
        "-o",
        "Dir::Etc::sourcelist=/dev/null",
        "-o",
        f"Dir::Etc::sourceparts={home}/parts",
        "-o",
        f"Dir::State::lists={home}/lists",
    ]
    if not (home / "lists/lock").exists():
        (home / "parts").mkdir(parents=True, exist_ok=True)
        (home / "lists/partial").mkdir(parents=True, exist_ok=True)
        for file in Path("/etc/apt/sources.list.d").glob("*.sources"):
            text = file.read_text().replace("Types: deb\n", "Types: deb deb-src\n")
            (home / "parts" / file.name).write_text(text)
        call("apt-get", *options, "update", cwd=home)
    call("apt-get", *options, *arguments, cwd=cwd)


def _unpack(archive: Path, into: Path) -> None:
    if archive.suffix == ".zip":
        zipfile.ZipFile(archive).extractall(into)
    else:
        with tarfile.open(archive) as packed:
            packed.extractall(into, filter="data")


def _environment(tree: Tree, folder: Path) -> None:
    """The project and what its tests need, in an environment of its own."""
    call(sys.executable, "-m", "venv", ".venv", cwd=folder)
    pip = str(folder / ".venv/bin/python")
    if tree.install:
        call(pip, "-m", "pip", "install", "--quiet", *tree.install, cwd=folder)


def _interpreter(title: str, tree: Tree, into: Path) -> None:
    """A module of the interpreter's own tests, with what all of them share."""
    result = importlib.util.find_spec("test.support")
    if result is None or not result.origin:
        raise RuntimeError("this interpreter comes without its own tests")
    source = Path(result.origin).parent.parent
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
