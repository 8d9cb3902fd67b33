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
    SECRET,
    html.escape(SECRET),
    quote(SECRET),
    json.dumps(SECRET)[1:-1],
    SECRET.encode().hex(),
    b64encode(SECRET.encode()).decode(),
    repr(SECRET)[1:-1],
}


def newest_journal(scene: Scene) -> Path | None:
    """The journal of the newest run, if there is one."""
    matches = sorted(scene.folder.glob(".wolfbane/runs/*/journal.jsonl"))
    return matches[-1] if matches else None


def results_of(journal: Path) -> dict[str, list[str]]:
    """The outcomes of each test that finished, from a journal; its last line may be broken off."""
    matches: dict[str, list[str]] = {}
    for number, line in enumerate(journal.read_bytes().splitlines()):
        try:
            event = json.loads(line)
        except ValueError:
            raise AssertionError(f"{journal.name}:{number + 1} is no JSON: {line[:80]!r}") from None
        if event["type"] == "test-finished" and not event["extra"]:
            result = event["result"]
            matches.setdefault(result["address"], []).append(result["outcome"])
    return matches


def wrong_outcomes(scene: Scene, matches: dict[str, list[str]], *, whole: bool) -> Iterator[str]:
    """Tests with an outcome of another, with several results, or without any."""
    for address, outcomes in scene.outcomes.items():
        got = matches.get(address, [])
        if not got and whole:
            yield f"{address}: no result"
        elif len(got) > 1:
            yield f"{address}: {len(got)} results: {', '.join(got)}"
        elif got and got[0] not in outcomes:
            yield f"{address}: {got[0]}, not {' or '.join(sorted(outcomes))}"
    if not scene.more:
        yield from (
            f"{address}: nobody knows it" for address in matches if address not in scene.outcomes
        )


def wrong_reports(scene: Scene, count: int) -> Iterator[str]:
    """Reports that do not read, or have another number of tests."""
    for form in scene.formats:
        folder = scene.folder / f"out.{form}"
        if not folder.exists():
            yield f"{form}: not written"
            continue
        try:
            told = _told(form, folder)
        except (ValueError, KeyError, xml.etree.ElementTree.ParseError) as error:
            yield f"{form}: {type(error).__name__}: {error}"
            continue
        if told is not None and told != count:
            yield f"{form}: {told} tests, not {count}"


def _told(form: str, folder: Path) -> int | None:
    """The number of tests that a report tells; None where that is not easily said."""
    text = folder.read_text(encoding="utf-8")
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
    while (result := [*_left(scene, temporary, cut=cut)]) and time.monotonic() < until:
        time.sleep(0.1)
    return result


def _left(scene: Scene, temporary: Path, *, cut: bool) -> Iterator[str]:
    for process in psutil.process_iter():
        try:
            ours = process.environ().get("FAULTS_DRAW") == str(scene.folder)
            if ours and process.status() != psutil.STATUS_ZOMBIE:
                yield f"process {process.pid} is left: {' '.join(process.cmdline())[:100]}"
        except psutil.Error:
            continue
    for folder in temporary.iterdir():
        if not folder.name.startswith("tmp"):  # those are the tests' own
            inside = ", ".join(each.name for each in folder.glob("*")) or "nothing"
            yield f"left in the folder for temporary files: {folder.name}, with {inside} in it"
    runs = scene.folder / ".wolfbane" / "runs"
    for folder in () if cut else sorted(scene.folder.rglob("*")):
        if runs not in folder.parents and re.search(r"\.lock$|\.\d{3,}$", folder.name):
            yield f"left in the workspace: {folder.relative_to(scene.folder)}"


def told_secrets(scene: Scene, *shown: str) -> Iterator[str]:
    """The secret in what was printed or written, in any form that is masked."""
    texts = {"printed": "".join(shown)}
    for folder in scene.folder.rglob("*"):
        if (folder.is_file() and ".wolfbane" in folder.parts) or folder.name.startswith("out."):
            texts[str(folder.relative_to(scene.folder))] = folder.read_text(errors="replace")
    for name, text in texts.items():
        if any(form in text for form in _SECRETS):
            yield f"{name}: the secret is in it"
