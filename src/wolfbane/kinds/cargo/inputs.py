"""Finds the files that the crates of a suite are made of."""

from __future__ import annotations

import posixpath
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from wolfbane.basis.files import read_regular
from wolfbane.kinds.cargo.settings import CargoSuite
from wolfbane.kinds.imports import beside, mentioned, places

MANIFEST = "Cargo.toml"
_PROJECT_FILES = (MANIFEST, "Cargo.lock", "rust-toolchain", "rust-toolchain.toml")
_CONFIGURATION = (".cargo/config.toml", ".cargo/config")
_SOURCES = ("*.rs", MANIFEST, "Cargo.lock", "build.rs")


def crate_files(root: Path, suite: CargoSuite) -> list[str]:
    """Globs of all sources and manifests of the crates, of crates that they name by path, and of
    the files whose paths the sources contain (``include!``, ``#[path]``, test data).
    """
    crates = _crates(root, suite)
    globs = [
        f"{crate}/**/{name}" if crate else f"**/{name}" for crate in crates for name in _SOURCES
    ]
    included = (path for crate in crates for path in _included(root, crate))
    return [*globs, *beside(suite, [*_PROJECT_FILES, *_CONFIGURATION]), *dict.fromkeys(included)]


def _crates(root: Path, suite: CargoSuite) -> list[str]:
    """The folders of the crates, and of the crates in this workspace that their manifests name."""
    starts = (path.partition("*")[0].rstrip("/") for path in suite.paths)
    waiting = ["" if path in (".", "") else posixpath.normpath(path) for path in starts]
    crates: dict[str, None] = {}
    while waiting:
        crate = waiting.pop()
        if crate in crates:
            continue
        crates[crate] = None
        for manifest in [root / crate / MANIFEST, *sorted((root / crate).glob(f"*/{MANIFEST}"))]:
            folder = manifest.parent.relative_to(root).as_posix()
            waiting += [p for named in _paths(_read(manifest)) for p in places(named, [folder])]
    return list(crates)


def _paths(table: dict[str, Any]) -> Iterator[str]:
    """The paths of dependencies, anywhere in a manifest."""
    for key, value in table.items():
        if not isinstance(value, dict):
            continue
        if key.endswith(("dependencies", "patch")):
            for named in value.values():
                if isinstance(named, dict) and isinstance(named.get("path"), str):
                    yield named["path"]
        yield from _paths(value)


def _read(manifest: Path) -> dict[str, Any]:
    try:
        return tomllib.loads(read_regular(manifest).decode())
    except (OSError, ValueError):
        return {}


def _included(root: Path, crate: str) -> Iterator[str]:
    for source in (root / crate).rglob("*.rs"):
        folder = source.parent.relative_to(root).as_posix()
        if "/target/" in f"/{folder}/":
            continue
        try:
            text = read_regular(source)
        except OSError:
            continue
        for name in mentioned(text):
            yield from (path for path in places(name, [folder, crate]) if (root / path).is_file())
