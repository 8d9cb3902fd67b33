"""Detects saved files whose content has changed, for ``wolfbane watch``."""

from __future__ import annotations

import hashlib
import queue
import threading
import time
from pathlib import Path

from wolfbane.basis.files import read_regular, walk
from wolfbane.workspace.settings import Workspace

_NEVER = frozenset({"node_modules", "__pycache__", "target"})
_HEAD_START = 2.0
"""Seconds to read a workspace before the first save; a large workspace is read in parallel."""
_LARGEST = 1 << 20
"""Maximum size of a file whose content is read in advance; a larger file counts as changed on each
save.
"""


class SavedFiles:
    """Watches a workspace in its own threads, from ``start`` to ``stop``."""

    def __init__(self, workspace: Workspace) -> None:
        self._root, self._results = workspace.root, workspace.results
        self._stop, self._looking = threading.Event(), threading.Event()
        self._threads = [
            threading.Thread(target=target, daemon=True) for target in (self._look, self._read)
        ]
        self._events: queue.SimpleQueue[set[str]] = queue.SimpleQueue()
        self._marks: dict[str, str] = {}
        self._began = 0.0
        self.trouble = ""

    def start(self) -> None:
        """Return when changes are detected.

        ``trouble`` is the reason if files cannot be watched.
        """
        self._began = time.time()
        for thread in self._threads:
            thread.start()
        self._looking.wait()
        self._threads[-1].join(_HEAD_START)

    def stop(self) -> None:
        """Look no longer."""
        self._stop.set()
        for thread in self._threads:
            thread.join(timeout=2)

    def changed(self) -> set[str]:
        """The paths whose content has changed since the last call."""
        saved: set[str] = set()
        while not self._events.empty():
            saved |= self._events.get()
        return {path for path in saved if self._differs(path)}

    def _look(self) -> None:
        from watchfiles import watch

        try:
            for changes in watch(
                self._root,
                stop_event=self._stop,
                debounce=400,
                rust_timeout=200,
                watch_filter=lambda _, path: self._matters(Path(path)),
                yield_on_timeout=True,
                raise_interrupt=False,
            ):
                self._looking.set()
                self._events.put({Path(p).relative_to(self._root).as_posix() for _, p in changes})
        except (OSError, RuntimeError) as error:
            self.trouble = str(error)
            self._looking.set()

    def _matters(self, path: Path) -> bool:
        if self._results in path.parents:
            return False
        inside = path.relative_to(self._root).parts
        return not any(part.startswith(".") or part in _NEVER for part in inside)

    def _read(self) -> None:
        """Read the content of files before the first save.

        A file that is saved during this time is ignored, because its earlier content is unknown.
        """
        for path in walk(self._root, ""):
            if self._stop.is_set():
                return
            file = self._root / path
            try:
                status = file.stat()
                if status.st_size <= _LARGEST and self._matters(file):
                    mark = _mark(file)
                    if file.stat().st_mtime < self._began:
                        self._marks.setdefault(path, mark)
            except OSError:
                continue

    def _differs(self, path: str) -> bool:
        try:
            mark = _mark(self._root / path)
        except OSError:
            mark = ""
        known, self._marks[path] = self._marks.get(path), mark
        return known != mark


def _mark(file: Path) -> str:
    return hashlib.blake2b(read_regular(file)).hexdigest()
