"""Downloads the documents that a workflow suite refers to by URL, and keeps copies."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import urljoin

import msgspec
from msgspec import to_builtins

from wolfbane.basis.files import read_regular, write_whole
from wolfbane.kinds.documents import Copy, Fetched, Fetching
from wolfbane.kinds.freshness import Freshness
from wolfbane.kinds.workflow.document_cache import is_url, place_of
from wolfbane.kinds.workflow.settings import Http, WorkflowSuite

INDEX = "index.json"
FETCH_LIMIT = 10.0
"""Time limit in seconds for a document that is needed."""
COMPARE_LIMIT = 2.0
"""Time limit in seconds for a document with a copy: it is only compared."""


def fetch_documents(
    root: Path, suite: WorkflowSuite, files: Sequence[str], how: Fetching
) -> Fetched:
    """The copies of all documents that a suite and its files name by URL."""
    fetched = Fetched()
    cache = DocumentCache(root, suite.http, how)
    waiting = list(_urls(root, suite, files))
    while waiting:
        url = waiting.pop(0)
        if url in fetched.copies:
            continue
        try:
            fetched.copies[url] = cache.copy(url, fetched.warnings)
        except OSError as error:
            fetched.problems.append(f"cannot download {url}: {error}")
        else:
            text = (root / fetched.copies[url].file).read_text(encoding="utf-8")
            waiting += _sources(text, url)
    return fetched


def _urls(root: Path, suite: WorkflowSuite, files: Sequence[str]) -> Iterator[str]:
    """The addresses that a suite and its documents name."""
    yield from (path for path in suite.paths if is_url(path))
    for file in files:
        with contextlib.suppress(OSError):  # its scan reports what is wrong with it
            text = read_regular(root / file).decode("utf-8-sig", "replace")
            if "://" in text:
                yield from _sources(text)


def _sources(text: str, base: str = "") -> Iterator[str]:
    """The addresses of an Arazzo document's sources; ``base`` is its own, if it has one."""
    if "sourceDescriptions" not in text:
        return
    from wolfbane.kinds.workflow.documents import (
        Document,
        DocumentError,
    )  # it takes a while to load

    with contextlib.suppress(DocumentError, AttributeError, TypeError):
        for source in Document(text).data.get("sourceDescriptions", []):
            url = urljoin(base, str(source.get("url")))
            if is_url(url):
                yield url


class DocumentCache:
    """The copies of documents that one suite names by URL."""

    def __init__(self, root: Path, http: Http, how: Fetching) -> None:
        self.root, self.folder, self.freshness = root, http.copies, how.freshness
        token = how.fill(http.documents_token)
        self.headers = {"Authorization": f"Bearer {token}"} if token else {}
        self.verify: Any = http.verify
        if isinstance(self.verify, str):
            self.verify = str(root / self.verify)
        self.path = self.root / self.folder / INDEX
        self.known: dict[str, Copy] = {}
        with contextlib.suppress(OSError, ValueError):
            read = json.loads(self.path.read_bytes())
            self.known = msgspec.convert(read, dict[str, Copy])

    def copy(self, url: str, warnings: list[str]) -> Copy:
        """The copy to use. Raises OSError if there is none and the download fails."""
        known = self.known.get(url)
        if known is not None and not (self.root / known.file).is_file():
            known = None
        if known is None and self.freshness is Freshness.OFFLINE:
            raise OSError("there is no saved copy (--offline)")
        if known is None or self.freshness is Freshness.REFRESH:
            return self._fetch(url)
        if self.freshness is Freshness.COMPARE:
            warnings += self._compare(known)
        return known

    def _fetch(self, url: str) -> Copy:
        answer = self._get(url, {}, FETCH_LIMIT)
        if answer.status_code != 200:
            raise OSError(f"status {answer.status_code}")
        content = answer.content
        path = place_of(url, self.folder)
        write_whole(self.root / path, content.decode("utf-8", "replace"))
        now = datetime.now().astimezone().isoformat(timespec="seconds")
        digest = hashlib.sha256(content).hexdigest()
        etag = answer.headers.get("etag", "")
        copy = Copy(url=url, file=path, fetched=now, digest=digest, etag=etag)
        self.known[url] = copy
        entries = {name: to_builtins(entry) for name, entry in sorted(self.known.items())}
        write_whole(self.path, json.dumps(entries, indent=1) + "\n")
        return copy

    def _compare(self, known: Copy) -> list[str]:
        """Whether the current document differs from the copy."""
        if known.etag:
            headers = {"If-None-Match": known.etag}
        else:
            headers = {}
        try:
            answer = self._get(known.url, headers, COMPARE_LIMIT)
        except OSError as error:
            return [f"{known.url}: using the saved copy ({known.description}), because {error}"]
        changed = hashlib.sha256(answer.content).hexdigest() != known.digest
        if answer.status_code == 200 and changed:
            return [
                f"{known.url}: the saved copy is out of date ({known.description}); "
                f"use --refresh to download it again"
            ]
        return []

    def _get(self, url: str, headers: dict[str, str], patience: float) -> Any:
        import httpx

        try:
            return httpx.get(
                url,
                headers={**self.headers, **headers},
                timeout=patience,
                verify=self.verify,
                follow_redirects=True,
            )
        except httpx.ConnectError:
            raise OSError("no server answers at this address") from None
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise OSError(str(error) or type(error).__name__) from None
