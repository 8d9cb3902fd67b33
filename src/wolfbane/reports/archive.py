"""Packs the whole folder of a run into one file, for joining shares or for storage."""

from __future__ import annotations

import gzip
import io
import tarfile
from collections.abc import Iterator

import msgspec

from wolfbane.events.run_events import TestFinished
from wolfbane.results.journal import JOURNAL_NAME
from wolfbane.results.record import Record


def write_archive(record: Record) -> bytes:
    """The folder as a gzip-compressed tar archive; the same bytes each time.

    A record without a folder has only its journal in the archive.
    """
    buffer = io.BytesIO()
    with (
        gzip.GzipFile(fileobj=buffer, mode="wb", mtime=0) as packed,
        tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as archive,
    ):
        for name, content in _files(record):
            info = tarfile.TarInfo(name)
            info.size = len(content)
            archive.addfile(info, io.BytesIO(content))
    return buffer.getvalue()


def _files(record: Record) -> Iterator[tuple[str, bytes]]:
    """The names and contents of the files in the folder of a run."""
    if record.folder is None:
        run = "run"
        if record.started:
            run = record.started.run
        events = [
            record.started,
            *map(TestFinished, record.results),
            *record.covered,
            record.finished,
        ]
        lines = [msgspec.json.encode(event) + b"\n" for event in events if event is not None]
        yield f"{run}/{JOURNAL_NAME}", b"".join(lines)
        return
    for path in sorted(record.folder.rglob("*")):
        if path.is_file():
            yield path.relative_to(record.folder.parent).as_posix(), path.read_bytes()
