"""The stored evidence of a browser session for one test: files, and a command log for replay."""

from __future__ import annotations

import io
import json
from collections.abc import Iterable, Iterator, Sequence
from itertools import pairwise
from typing import Any

import msgspec
from msgspec.structs import replace

from wolfbane.browsers.downloads import LARGEST
from wolfbane.browsers.evidence.records import BrowserRequest, archive, network_text
from wolfbane.browsers.evidence.snapshots import Snapshot
from wolfbane.browsers.sessions import BrowserSession, PagePicture, SessionEvidence

_LONGEST = 2.0
"""Seconds to show one frame of a film at most, because suites sometimes wait long."""
_SHORTEST = 0.3


class EvidenceContent(msgspec.Struct, frozen=True):
    """A file to store. ``name`` is the name of a downloaded file. Secrets in text are masked."""

    kind: str
    content: str | bytes
    name: str = ""


def evidence_of(session: BrowserSession, seen: SessionEvidence) -> Iterator[EvidenceContent]:
    """The files to store, without the passwords that were typed in their session."""
    for each in _contents(session, seen):
        if isinstance(each.content, str):
            yield replace(each, content=session.secrets.mask(each.content))
        else:
            yield each


def _contents(session: BrowserSession, seen: SessionEvidence) -> Iterator[EvidenceContent]:
    """The files of a session.

    Screenshots are first, ordered by time: a replay refers to them by number.
    """
    pictures = [(shot.at, "screenshot", shot.picture) for shot in seen.snapshots if shot.picture]
    pictures += [(frame.at, "picture", frame.picture) for frame in seen.frames]
    pictures.sort(key=lambda each: each[0])
    for _, kind, picture in pictures:
        yield EvidenceContent(kind, picture)
    for shot in seen.snapshots:
        if shot.source:
            yield EvidenceContent("page", shot.source)
    if seen.console:
        yield EvidenceContent("console", _console(session, seen))
    if seen.requests:
        yield EvidenceContent("network", network_text(seen.requests, session.opened_at))
        yield EvidenceContent("har", archive(seen.requests))
    yield EvidenceContent("protocol", _protocol(session, seen))
    yield EvidenceContent("replay", json.dumps(_replay(session, seen, [at for at, *_ in pictures])))
    if len(seen.frames) > 1:
        yield EvidenceContent("filmstrip", _animated(seen.frames))
    for each in seen.downloads:
        if each.content is not None:
            yield EvidenceContent("download", _text_or_bytes(each.content), each.name)


def _text_or_bytes(content: bytes) -> str | bytes:
    try:
        return content.decode()
    except UnicodeDecodeError:
        return content


def _console(session: BrowserSession, seen: SessionEvidence) -> str:
    lines = [
        f"{line.at - session.opened_at:9.3f} s  {line.level:<8} {line.text}"
        for line in seen.console
    ]
    return "\n".join(lines) + "\n"


def _protocol(session: BrowserSession, seen: SessionEvidence) -> str:
    lines = [f"session {session.label}"]
    if seen.shared:
        lines.append(
            "(several tests ran at the same time: some commands may belong to another test)"
        )
    lines += [f"{command.at:9.3f} s  {command}" for command in seen.commands]
    for each in seen.downloads:
        lost = ""
        if each.content is None:
            lost = f" (not stored: over {LARGEST >> 20} MB)"
        lines += [f"downloaded {each.name}: {each.size:,} bytes{lost}"]
    for shot in seen.snapshots:
        lines += ["", f"{shot.why}: {_place(shot)}"]
        if shot.title:
            lines += [f"  title: {shot.title}"]
    return "\n".join(lines) + "\n"


def _place(shot: Snapshot) -> str:
    if shot.dialog:
        return f"open dialog: '{shot.dialog}'"
    return shot.url


def _replay(
    session: BrowserSession, seen: SessionEvidence, pictures: Sequence[float]
) -> dict[str, Any]:
    """The data to replay the test on a page. All times are in seconds of the session."""
    opened = session.opened_at
    return {
        "session": session.label,
        "shared": seen.shared,
        "commands": [
            [round(c.at, 3), round(c.seconds, 3), c.sentence, c.answer, c.status >= 400]
            for c in seen.commands
        ],
        "pictures": [round(at, 3) for at in pictures],
        "shots": [[round(shot.at, 3), shot.why, _place(shot)] for shot in seen.snapshots],
        "console": [[round(c.at - opened, 3), c.level, c.text] for c in seen.console],
        "network": [_request(each, opened) for each in seen.requests],
    }


def _request(each: BrowserRequest, opened: float) -> list[Any]:
    return [
        round(each.at - opened, 3),
        round(each.seconds, 3),
        each.method,
        each.url,
        each.status,
        each.kind,
        each.size,
        each.error,
        each.has_failed,
    ]


def _animated(frames: Iterable[PagePicture]) -> bytes:
    """Screenshots in order as an animated WebP, each shown for its real duration."""
    from PIL import Image

    kept = list(frames)
    pictures: list[Any] = [Image.open(io.BytesIO(each.picture)).convert("RGB") for each in kept]
    shown = [after.at - before.at for before, after in pairwise(kept)]
    times = [int(min(max(each, _SHORTEST), _LONGEST) * 1000) for each in [*shown, _LONGEST]]
    made = io.BytesIO()
    pictures[0].save(
        made,
        "WEBP",
        save_all=True,
        append_images=pictures[1:],
        duration=times,
        loop=0,
        quality=80,
    )
    return made.getvalue()
