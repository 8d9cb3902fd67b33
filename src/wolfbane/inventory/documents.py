"""Documents that are given by URL: fetched, kept as copies, looked at again."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import urljoin

from wolfbane.engines import engine_for
from wolfbane.environments import Environment
from wolfbane.errors import InputError, Problem
from wolfbane.files import read_regular, write_whole
from wolfbane.formats.copies import is_url, place_of
from wolfbane.inventory.files import suite_files
from wolfbane.workspace.settings import Suite, Workspace

INDEX = "index.json"
PATIENCE = 10.0
GLANCE = 2.0
REFRESH, GLANCING, OFFLINE = "refresh", "glancing", "offline"


@dataclass(frozen=True)
class Copy:
    """What is known of a copy: where it is, when it came (ISO 8601), its digest and ETag."""

    url: str
    place: str
    fetched: str
    digest: str
    etag: str = ""

    @property
    def words(self) -> str:
        """For people: ``fetched 2026-03-01T08:00:00+00:00, sha256 1f2e3d4c5b6a``."""
        return f"fetched {self.fetched}, sha256 {self.digest[:12]}"


def fetch_documents(
    workspace: Workspace, environment: Environment, how: str
) -> tuple[list[Copy], list[str]]:
    """Fetch or check the copies of all suites; returns them and the warnings.

    ``how`` is REFRESH (all anew), GLANCING (what is missing; the rest is only compared with what
    is there now) or OFFLINE. Raises InputError with what can't be had.
    """
    copies: dict[str, Copy] = {}
    said: list[str] = []
    problems: list[Problem] = []
    for suite in workspace.suites:
        if suite.kind == "workflow":
            shelf = _Shelf(workspace, suite, environment)
            waiting = list(_urls(workspace, suite))
            while waiting:
                url = waiting.pop(0)
                if url in copies:
                    continue
                try:
                    copies[url] = shelf.copy(url, how, said)
                except OSError as error:
                    words = environment.mask(f"{url} cannot be fetched: {error}")
                    problems.append(Problem(f"suite '{suite.name}': {words}"))
                else:
                    text = (workspace.root / copies[url].place).read_text(encoding="utf-8")
                    waiting += _sources(text, url)
    if problems:
        raise InputError(*problems)
    return list(copies.values()), said


def _urls(workspace: Workspace, suite: Suite) -> Iterator[str]:
    """The addresses that a suite and its documents name."""
    yield from (path for path in suite.paths if is_url(path))
    patterns = engine_for(suite.kind).patterns(workspace.root, suite)
    own = [path for path in suite.paths if not is_url(path)]
    for file in suite_files(workspace.root, own, patterns, suite.exclude):
        with contextlib.suppress(OSError):  # its scan says what is wrong with it
            text = read_regular(workspace.root / file).decode("utf-8-sig", "replace")
            if "://" in text:
                yield from _sources(text)


def _sources(text: str, base: str = "") -> Iterator[str]:
    """The addresses of an Arazzo document's sources; ``base`` is its own, if it has one."""
    if "sourceDescriptions" not in text:
        return
    from wolfbane.formats.documents import Document, DocumentError  # it takes a while to load

    with contextlib.suppress(DocumentError, AttributeError, TypeError):
        for source in Document(text).data.get("sourceDescriptions", []):
            url = urljoin(base, str(source.get("url")))
            if is_url(url):
                yield url


class _Shelf:
    """The copies of one suite."""

    def __init__(self, workspace: Workspace, suite: Suite, environment: Environment) -> None:
        self.root, self.folder = workspace.root, suite.http.copies
        token = environment.fill(suite.http.documents_token)
        self.headers = {"Authorization": f"Bearer {token}"} if token else {}
        self.verify: Any = suite.http.verify
        if isinstance(self.verify, str):
            self.verify = str(workspace.root / self.verify)
        self.path = self.root / self.folder / INDEX
        self.known: dict[str, Copy] = {}
        with contextlib.suppress(OSError, ValueError, TypeError, AttributeError):
            read = json.loads(self.path.read_bytes())
            self.known = {url: Copy(**entry) for url, entry in read.items()}

    def copy(self, url: str, how: str, said: list[str]) -> Copy:
        """The copy to use. Raises OSError where there is none and none can be had."""
        known = self.known.get(url)
        if known is not None and not (self.root / known.place).is_file():
            known = None
        if known is None and how == OFFLINE:
            raise OSError("there is no copy here (--offline)")
        if known is None or how == REFRESH:
            return self._fetch(url)
        if how == GLANCING:
            said += self._glance(known)
        return known

    def _fetch(self, url: str) -> Copy:
        answer = self._get(url, {}, PATIENCE)
        if answer.status_code != 200:
            raise OSError(f"status {answer.status_code}")
        content = answer.content
        place = place_of(url, self.folder)
        write_whole(self.root / place, content.decode("utf-8", "replace"))
        now = datetime.now().astimezone().isoformat(timespec="seconds")
        digest = hashlib.sha256(content).hexdigest()
        copy = Copy(url, place, now, digest, answer.headers.get("etag", ""))
        self.known[url] = copy
        entries = {name: asdict(entry) for name, entry in sorted(self.known.items())}
        write_whole(self.path, json.dumps(entries, indent=1) + "\n")
        return copy

    def _glance(self, known: Copy) -> list[str]:
        """Whether what is there now is another version than the copy."""
        headers = {"If-None-Match": known.etag} if known.etag else {}
        try:
            answer = self._get(known.url, headers, GLANCE)
        except OSError as error:
            return [f"{known.url}: the copy is used ({known.words}), for {error}"]
        changed = hashlib.sha256(answer.content).hexdigest() != known.digest
        if answer.status_code == 200 and changed:
            return [f"{known.url}: the copy is out of date ({known.words}); --refresh fetches it"]
        return []

    def _get(self, url: str, headers: dict[str, str], patience: float) -> Any:
        import httpx

        try:
            return httpx.get(
                url, headers={**self.headers, **headers}, timeout=patience, verify=self.verify,
                follow_redirects=True,
            )  # fmt: skip
        except httpx.ConnectError:
            raise OSError("nobody answers there") from None
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise OSError(str(error) or type(error).__name__) from None


def keep_with_run(copies: Sequence[Copy], root: Path, folder: Path) -> None:
    """Put the copies that a run uses into its folder."""
    for copy in copies:
        target = folder / "documents" / copy.place.rpartition("/")[2]
        if target.exists():
            target = target.with_name(f"{copy.digest[:8]}-{target.name}")
        target.parent.mkdir(exist_ok=True)
        target.write_bytes((root / copy.place).read_bytes())
