"""The folders for the downloads of browsers, and the downloaded files of a test."""

from __future__ import annotations

import shutil
import stat
from collections.abc import Iterator
from pathlib import Path

import msgspec
from msgspec.structs import replace

from wolfbane.browsers.engines.programs import Programs
from wolfbane.workspace.settings import Browser
from wolfbane.workspace.vocabulary import OTHER_ENGINE

LARGEST = 32 << 20
"""Bytes of a file that is stored as evidence. Larger files are only listed."""
_MOST = 100
"""Maximum number of files for each test and session."""


class Download(msgspec.Struct, frozen=True):
    """A downloaded file. ``content`` is None if the file is too large or cannot be read."""

    name: str
    size: int
    content: bytes | None


def saves_here(browser: Browser) -> bool:
    """Whether Wolfbane decides where the browser saves its downloads."""
    return browser.engine != OTHER_ENGINE and not browser.url


def settled_folder(root: Path, browser: Browser) -> Path | None:
    """The folder from the settings, relative to the workspace's root; None without one."""
    if browser.downloads:
        return root / browser.downloads
    return None


def with_folder(root: Path, browser: Browser, programs: Programs) -> Browser:
    """A browser's settings with the folder for the downloads of one session.

    Without a setting, the folder is new and private. Otherwise, browsers use the folder of the
    user's home, where WebKit replaces files of the same name.
    """
    if not saves_here(browser):
        return browser
    folder = settled_folder(root, browser)
    if folder is None:
        folder = programs.folder() / "downloads"
    folder.mkdir(parents=True, exist_ok=True)
    return replace(browser, downloads=str(folder))


class WorkerDownloads:
    """The download folders of one worker's sessions.

    ``folder`` is the path that the worker knows from its start. It is a link to the folder of the
    newest session, because a session may be opened before its worker starts.
    """

    def __init__(self, folder: Path | None) -> None:
        self._place = folder
        self._over: list[Path] = []

    def opened(self, folder: str) -> None:
        """A session with this folder is the worker's newest one."""
        if self._place is not None and str(self._place) != folder:
            self._place.unlink(missing_ok=True)
            self._place.symlink_to(folder)

    def ended(self, folder: str) -> None:
        """The suite ended a session. It may still read the files until its test is over."""
        if folder and str(self._place) != folder:
            self._over.append(Path(folder))

    def remove(self) -> None:
        """Remove the folders of ended sessions: no test runs."""
        for folder in self._over:
            shutil.rmtree(folder, ignore_errors=True)
        self._over.clear()


def downloaded(folder: str, since: float) -> list[Download]:
    """The files that changed in a folder since a time in seconds since 1970, by name."""
    if folder:
        return list(_changed(Path(folder), since))
    return []


def _changed(folder: Path, since: float) -> Iterator[Download]:
    try:
        paths = sorted(folder.iterdir())
    except OSError:
        return
    count = 0
    for path in paths:
        try:
            facts = path.lstat()
            if not stat.S_ISREG(facts.st_mode) or facts.st_ctime < since:
                continue
            content = None
            if facts.st_size <= LARGEST:
                content = path.read_bytes()
        except OSError:  # a browser renames its files when they are complete
            continue
        count += 1
        yield Download(path.name, facts.st_size, content)
        if count == _MOST:
            return
