"""The cache of scanned and collected tests, by the content hash of each file."""

from __future__ import annotations

import contextlib
import hashlib
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from wolfbane.basis.files import read_regular, results_folder, write_whole
from wolfbane.model import Block, Tag, Test, TestFile
from wolfbane.results.json_text import compact, parsed

FORMAT = 10
_Entry = dict[str, Any]


class FileState(msgspec.Struct, frozen=True):
    """The recorded state of a file: its time, its size, and the hash of its content."""

    signature: list[int]
    digest: str


CACHE = "inventory.json"
"""The file's name in the cache folder."""


class Cache:
    """A JSON file of entries by suite and path. A damaged or outdated file is ignored."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._used: set[str] = set()
        self._changed: set[str] = set()
        self._stamp = _signature(path)
        self._entries = self._load()

    def _load(self) -> dict[str, _Entry]:
        try:
            data = parsed(read_regular(self._path))
            if data["format"] == FORMAT:
                return dict(data["files"])
            return {}
        except (OSError, ValueError, KeyError, TypeError):
            return {}

    def look_up(
        self, root: Path, path: str, suite: str, settings: str
    ) -> tuple[bool, TestFile | None]:
        """Whether an unchanged file is known, and its tests (None: no tests).

        The same time and size count as unchanged; otherwise, the content decides. If the file or
        its entry cannot be read, the file is unknown.
        """
        key = f"{suite}:{path}"
        try:
            entry = self._entries[key]
            if entry["settings"] != settings:
                return False, None
            seen = _signature(root / path)
            if entry["seen"] != seen:
                if entry["hash"] != content_hash(read_regular(root / path)):
                    return False, None
                entry["seen"] = seen
                self._changed.add(key)
            if any(_signature(root / other) != then for other, then in entry["depends"].items()):
                return False, None
            file = _read(path, suite, entry)
        except (OSError, KeyError, TypeError, ValueError, AttributeError):
            return False, None
        self._used.add(key)
        return True, file

    def keep(
        self,
        root: Path,
        path: str,
        suite: str,
        settings: str,
        seen: FileState,
        file: TestFile | None,
    ) -> None:
        """Store the tests of a file, together with its state before it was read."""
        entry: _Entry = {
            "settings": settings,
            "seen": seen.signature,
            "hash": seen.digest,
            "depends": {p: _signature(root / p) for p in file.depends} if file else {},
        }
        entry.update({"empty": True} if file is None else _written(file))
        key = f"{suite}:{path}"
        self._entries[key] = entry
        self._used.add(key)
        self._changed.add(key)

    def save(self) -> bool:
        """Write the cache if anything changed, without the files that no longer exist.

        Entries that another run wrote in the meantime stay, for files that this run did not change.
        """
        gone = self._entries.keys() - self._used
        changed = bool(self._changed or gone)
        if changed:
            files = self._entries
            if _signature(self._path) != self._stamp:
                files = {**self._load(), **{key: files[key] for key in self._changed}}
            files = {key: entry for key, entry in files.items() if key not in gone}
            text = compact({"format": FORMAT, "files": files})
            with contextlib.suppress(OSError):  # a cache that cannot be kept is no trouble
                results_folder(self._path.parent)
                write_whole(self._path, text)
            self._entries, self._changed, self._stamp = files, set(), _signature(self._path)
        return changed


def _signature(path: Path) -> list[int]:
    """The time of the last change (ns) and the size of a file; zeros if it does not exist."""
    try:
        status = path.stat()
    except OSError:
        return [0, 0]
    return [status.st_mtime_ns, status.st_size]


def look(path: Path) -> tuple[FileState, bytes]:
    """The content of a file, and its state at the time of reading. Raises OSError.

    If the file changes during this time, the next scan will detect it.
    """
    before = _signature(path)
    source = read_regular(path)
    return FileState(before, content_hash(source)), source


def content_hash(data: bytes) -> str:
    """A short hash of a file's content."""
    return hashlib.blake2b(data, digest_size=16).hexdigest()


def _written(file: TestFile) -> _Entry:
    return {
        "complete": file.complete,
        "dynamic": file.dynamic,
        "exact": file.exact,
        "divisible": file.divisible,
        "error": file.error,
        "warnings": file.warnings,
        "guessed": [t.name for t in file.tests if file.exact and not t.exact],
        "needs": {t.name: t.needs for t in file.tests if t.needs},
        "called": {t.name: t.source_name for t in file.tests if t.source_name},
        "only_marks": file.only_marks,
        "focused": [t.name for t in file.tests if t.focused],
        "blocks": [[block.name, block.start, block.end] for block in file.blocks],
        "tests": [
            [t.name, t.line, t.end, t.group, t.blocked, [[g.word, g.key, g.origin] for g in t.tags]]
            for t in file.tests
        ],
    }


def _tags(rows: list[list[str]]) -> tuple[Tag, ...]:
    if rows:
        return _same_tags(tuple(map(tuple, rows)))
    return ()


@lru_cache(maxsize=4096)
def _same_tags(rows: tuple[tuple[str, str, str], ...]) -> tuple[Tag, ...]:
    """Equal tags share one object: there are few different ones."""
    return tuple(Tag(*row) for row in rows)


def _read_tests(path: str, suite: str, entry: _Entry) -> tuple[Test, ...]:
    kind, exact = entry["settings"].partition(" ")[0], entry["exact"]
    tests = tuple(
        Test(
            suite=suite,
            kind=kind,
            path=path,
            name=name,
            line=line,
            end=end,
            tags=_tags(tags),
            group=group,
            exact=exact,
            blocked=blocked,
        )
        for name, line, end, group, blocked, tags in entry["tests"]
    )
    if entry["guessed"] or entry["focused"] or entry["needs"] or entry["called"]:
        guessed, focused, needs = set(entry["guessed"]), set(entry["focused"]), entry["needs"]
        tests = tuple(
            replace(
                t,
                exact=exact and t.name not in guessed,
                focused=t.name in focused,
                needs=tuple(needs.get(t.name, ())),
                source_name=entry["called"].get(t.name, ""),
            )
            for t in tests
        )
    return tests


def _read(path: str, suite: str, entry: _Entry) -> TestFile | None:
    if entry.get("empty"):
        return None
    kind, exact = entry["settings"].partition(" ")[0], entry["exact"]
    tests = _read_tests(path, suite, entry)
    return TestFile(
        path=path,
        suite=suite,
        kind=kind,
        tests=tests,
        blocks=tuple(Block(*block) for block in entry["blocks"]),
        complete=entry["complete"],
        dynamic=entry["dynamic"],
        exact=exact,
        divisible=entry["divisible"],
        depends=tuple(entry["depends"]),
        only_marks=tuple(entry.get("only_marks", ())),
        error=entry["error"],
        warnings=tuple(entry["warnings"]),
    )
