"""What must hold after every draw, whatever the fault was."""

from __future__ import annotations

import csv
import html
import io
import json
import re
import time
import xml.etree.ElementTree
from base64 import b64encode
from collections.abc import Iterator, Sequence
from pathlib import Path
from urllib.parse import quote

import psutil
from benchmarks.faults.scene import SECRET, Scene

_MOMENT = 8.0
_SECRETS = {
    SECRET, html.escape(SECRET), quote(SECRET), json.dumps(SECRET)[1:-1], SECRET.encode().hex(),
    b64encode(SECRET.encode()).decode(), repr(SECRET)[1:-1],
}  # fmt: skip


def newest_journal(scene: Scene) -> Path | None:
    """The journal of the newest run, if there is one."""
    found = sorted(scene.folder.glob(".wolfbane/runs/*/journal.jsonl"))
    return found[-1] if found else None


def results_of(journal: Path) -> dict[str, list[str]]:
    """The outcomes of each test that finished, from a journal; its last line may be broken off."""
    found: dict[str, list[str]] = {}
    for number, line in enumerate(journal.read_bytes().splitlines()):
        try:
            event = json.loads(line)
        except ValueError:
            raise AssertionError(f"{journal.name}:{number + 1} is no JSON: {line[:80]!r}") from None
        if event["type"] == "test-finished" and not event["extra"]:
            result = event["result"]
            found.setdefault(result["address"], []).append(result["outcome"])
    return found


def wrong_outcomes(scene: Scene, found: dict[str, list[str]], *, whole: bool) -> Iterator[str]:
    """Tests with an outcome of another, with several results, or without any."""
    for address, outcomes in scene.outcomes.items():
        got = found.get(address, [])
        if not got and whole:
            yield f"{address}: no result"
        elif len(got) > 1:
            yield f"{address}: {len(got)} results: {', '.join(got)}"
        elif got and got[0] not in outcomes:
            yield f"{address}: {got[0]}, not {' or '.join(sorted(outcomes))}"
    if not scene.more:
        yield from (
            f"{address}: nobody knows it" for address in found if address not in scene.outcomes
        )


def wrong_reports(scene: Scene, count: int) -> Iterator[str]:
    """Reports that do not read, or have another number of tests."""
    for form in scene.formats:
        place = scene.folder / f"out.{form}"
        if not place.exists():
            yield f"{form}: not written"
            continue
        try:
            told = _told(form, place)
        except (ValueError, KeyError, xml.etree.ElementTree.ParseError) as error:
            yield f"{form}: {type(error).__name__}: {error}"
            continue
        if told is not None and told != count:
            yield f"{form}: {told} tests, not {count}"


def _told(form: str, place: Path) -> int | None:
    """The number of tests that a report tells; None where that is not easily said."""
    text = place.read_text(encoding="utf-8")
    if form == "xunit":
        return len(list(xml.etree.ElementTree.fromstring(text).iter("testcase")))
    if form == "ctrf":
        return len(json.loads(text)["results"]["tests"])
    if form == "json":
        return len(json.loads(text)["results"])
    if form == "jsonl":
        return sum(bool(json.loads(line)["address"]) for line in text.split("\n")[:-1])
    if form == "csv":
        return len(list(csv.DictReader(io.StringIO(text, newline=""))))
    if form == "tap":
        return len(re.findall(r"^(?:not )?ok \d", text, re.MULTILINE))
    if form == "html" and "</html>" not in text:
        raise ValueError("it has no end")
    return None


def left_behind(scene: Scene, temporary: Path, *, cut: bool = False) -> Sequence[str]:
    """Processes and files that a run did not take with it.

    What ends them where Wolfbane was killed takes a moment. Half of a file that it was writing
    then (``cut``) is taken away when the file is written again, a minute later at the earliest.
    """
    until = time.monotonic() + _MOMENT
    while (found := [*_left(scene, temporary, cut=cut)]) and time.monotonic() < until:
        time.sleep(0.1)
    return found


def _left(scene: Scene, temporary: Path, *, cut: bool) -> Iterator[str]:
    for process in psutil.process_iter():
        try:
            ours = process.environ().get("FAULTS_DRAW") == str(scene.folder)
            if ours and process.status() != psutil.STATUS_ZOMBIE:
                yield f"process {process.pid} is left: {' '.join(process.cmdline())[:100]}"
        except psutil.Error:
            continue
    for place in temporary.iterdir():
        if not place.name.startswith("tmp"):  # those are the tests' own
            inside = ", ".join(each.name for each in place.glob("*")) or "nothing"
            yield f"left in the folder for temporary files: {place.name}, with {inside} in it"
    runs = scene.folder / ".wolfbane" / "runs"
    for place in () if cut else sorted(scene.folder.rglob("*")):
        if runs not in place.parents and re.search(r"\.lock$|\.\d{3,}$", place.name):
            yield f"left in the workspace: {place.relative_to(scene.folder)}"


def told_secrets(scene: Scene, *shown: str) -> Iterator[str]:
    """The secret in what was printed or written, in any form that is masked."""
    texts = {"printed": "".join(shown)}
    for place in scene.folder.rglob("*"):
        if (place.is_file() and ".wolfbane" in place.parts) or place.name.startswith("out."):
            texts[str(place.relative_to(scene.folder))] = place.read_text(errors="replace")
    for name, text in texts.items():
        if any(form in text for form in _SECRETS):
            yield f"{name}: the secret is in it"
