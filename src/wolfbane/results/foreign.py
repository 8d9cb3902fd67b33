"""Reads records and archives that may come from elsewhere: nothing in them leads out of them."""

from __future__ import annotations

import os
import stat
import tarfile
from pathlib import Path, PurePosixPath

from wolfbane.basis.units import bytes_shown
from wolfbane.errors import InputError, Problem
from wolfbane.model import Result

MOST_UNPACKED = 4 << 30
"""Bytes of all files of an archive."""
_GROWTH = 100
"""Maximum factor between an archive and its files. The evidence of real runs stays below 40."""
_ALWAYS = 64 << 20
"""Bytes that any archive may unpack to."""
_MOST_FILES = 200_000


def evidence_problem(result: Result) -> str:
    """The reason why a result is not from a run of Wolfbane: a path that leads out of its record.

    Empty if there is none.
    """
    for kept in result.evidence:
        path = PurePosixPath(kept.path)
        if kept.path and (path.is_absolute() or ".." in path.parts or "\0" in kept.path):
            return f"the evidence of {result.address} is outside of the record: {kept.path}"
    return next(filter(None, map(evidence_problem, result.earlier)), "")


def read_evidence(folder: Path, path: str, longest: int) -> bytes | None:
    """The content of an evidence file; None if it is longer than this number of bytes.

    Raises OSError if it cannot be read, and if it is a link or not a regular file in ``folder``.
    """
    evidence = folder / path
    if not path or evidence.parent.resolve() != (folder.resolve() / path).parent:
        raise OSError("it is not in the folder of the run")
    file = os.open(evidence, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    with os.fdopen(file, "rb") as opened:
        facts = os.fstat(file)
        if not stat.S_ISREG(facts.st_mode):
            raise OSError("it is not a regular file")
        if facts.st_size <= longest:
            return opened.read()
        return None


def unpack(archive: Path, folder: Path) -> None:
    """Unpack an archive of a run. Raises InputError, and unpacks nothing after a wrong entry.

    Only files and folders in ``folder`` are accepted, and only up to a size that the archive
    of a run can have.
    """
    try:
        limit = min(MOST_UNPACKED, _ALWAYS + _GROWTH * archive.stat().st_size)
        with tarfile.open(archive) as packed:
            size = 0
            for count, member in enumerate(packed):
                if not (member.isfile() or member.isdir()) or member.issparse():
                    raise _refused(f"'{member.name}' is not a file or folder", archive)
                size += member.size
                if size > limit or count >= _MOST_FILES:
                    message = f"its files are larger than {bytes_shown(limit)}"
                    if count >= _MOST_FILES:
                        message = f"it has more than {_MOST_FILES:,} files"
                    raise _refused(message, archive)
                packed.extract(member, folder, filter="data")
    except (OSError, tarfile.TarError, EOFError, ValueError) as error:
        raise _refused(str(error), archive) from None


def _refused(message: str, archive: Path) -> InputError:
    return InputError(Problem(f"cannot unpack the archive: {message}", str(archive)))
