"""What became of the tests of one call: entries of its report, and those that have none."""

from __future__ import annotations

import os
import re
import time
from base64 import b64encode
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from fnmatch import fnmatch
from pathlib import Path
from typing import Any

from wolfbane.exits import how_it_ended
from wolfbane.formats.entries import Entry
from wolfbane.model import Outcome
from wolfbane.workers.bridge.calls import Called
from wolfbane.workers.channel import Channel, Message

_LARGEST = 16 << 20
_UNTOLD = {"outcome": "failed", "message": "its report calls it flaky, and says no more"}
BAD = frozenset({"failed", "errored", "timed out", "crashed"})


@dataclass(frozen=True)
class Verdict:
    """How a call as a whole ended. ``ended`` says why it had to be, ``trouble`` what of reading."""

    code: int
    ended: str = ""
    trouble: str = ""
    output: str = ""
    seconds: float = 0.0


@dataclass(frozen=True)
class Asked:
    """What a launcher was started for.

    ``place`` is what entries and troubles are told of that belong to none of several files.
    ``others`` are the known tests that were not chosen, by path, what they are called, and
    number; ``by_name`` says that the launcher was told names, and so what to leave out.
    """

    tests: Sequence[Called]
    place: str
    others: Mapping[tuple[str, str, int], str] = field(default_factory=dict)
    by_name: bool = True


class Accounts:
    """Tells of each test what its entry says; of each without one, that no result came back."""

    def __init__(self, channel: Channel, bridge: Mapping[str, Any], asked: Asked) -> None:
        tests, place = asked.tests, asked.place
        self._channel, self._run, self._asked = channel, bridge["run"], asked
        self._template: str = bridge["read"]["name"]
        self._left: dict[str, list[Called]] = {}
        for test in tests:
            self._left.setdefault(test.known_as, []).append(test)
        self._seen: Counter[tuple[str, str]] = Counter()
        paths = {test.file: test.path for test in tests}
        self._paths = {os.path.abspath(file): path for file, path in paths.items()}
        self._place, self._elsewhere = tests[0].path if len(paths) == 1 else place, place
        self._globs: Sequence[str] = bridge["find"]["files"]
        self._named = {(test.path, test.known_as): test.among for test in tests}
        self._told, self._bad = 0, False
        self._parts: list[Message] | None = [] if self._run["names"]["how"] == "files" else None
        self._ahead = tests[0] if len(tests) == 1 else None
        self._began = 0.0

    def begin(self) -> None:
        """Before the start: of one test alone it is known that it runs now, should anyone care."""
        if self._ahead and self._channel.prompt:
            self._channel.send({"type": "started", "address": self._ahead.address})
        self._began = time.perf_counter()

    def take(self, entry: Entry) -> None:
        """An entry: of a test that was asked for, of a part of a file, or of one nobody knew."""
        fields = {
            "name": entry.name, "group": entry.group, "suite": entry.suite, "file": entry.file
        }  # fmt: skip
        known_as = self._template.format(**fields)
        outcome = str(entry.outcome)
        self._bad |= outcome in BAD
        self._told += 1
        if self._parts is not None:
            self._parts.append(_part(entry, known_as))
            return
        address, account = self._address(entry, known_as)
        if not address:
            return
        self._start(address)
        if entry.output:
            self._say(address, entry.output)
        for path in entry.attachments:
            self._attach(address, path)
        seconds = entry.seconds
        if self._ahead and not seconds:  # a report need not say it
            seconds = round(time.perf_counter() - self._began, 6)
        finished = {
            "type": "finished", "address": address, "seconds": seconds, "account": account
        }  # fmt: skip
        finished.update(_told(entry, self._file(address)))
        if entry.earlier or entry.outcome is Outcome.FLAKY:
            finished["attempts"] = [*map(_attempt, entry.earlier)] or [_UNTOLD]
        self._channel.send({**finished, "outcome": "passed" if outcome == "flaky" else outcome})

    def _attach(self, address: str, path: str) -> None:
        """A file that the report says a test left behind; what is not there any more is not."""
        try:
            data = Path(path.removeprefix("file://")).read_bytes()
        except OSError:
            return
        ending = Path(path).suffix.lower().removeprefix(".")
        kind = "screenshot" if ending == "png" else re.sub("[^a-z0-9]", "", ending) or "bin"
        if len(data) > _LARGEST:
            self._say(address, f"{path}: {len(data)} bytes are too many to be kept\n")
            return
        told: Message = {"type": "evidence", "address": address, "kind": kind}
        try:
            told["text"] = data.decode("utf-8")
        except UnicodeDecodeError:
            told["data"] = b64encode(data).decode()
        self._channel.hold(told)

    def _address(self, entry: Entry, known_as: str) -> tuple[str, str]:
        """Of the test that waits under this name: in the entry's file, and there by its number.

        Else one that ran ``unasked``, or is ``added``. None for what only says that something
        was left out, and for a test that had to run since it is called as one that was chosen.
        """
        path = self._path(entry)
        self._seen[path, known_as] += 1
        number = self._seen[path, known_as]
        waiting = self._left.get(known_as, [])
        mine = [test for test in waiting if not path or (test.path, test.number) == (path, number)]
        if mine:
            waiting.remove(mine[0])
            return mine[0].address, ""
        left_out = entry.outcome is Outcome.SKIPPED and self._asked.by_name
        if left_out or number <= self._named.get((path, known_as), 0):
            return "", ""
        if other := self._asked.others.get((path, known_as, number)):
            return other, "unasked"
        again = f" ({number})" if number > 1 else ""
        return f"{path or self._place}#{known_as}{again}", "added"

    def _path(self, entry: Entry) -> str:
        """The path of the entry's file, or nothing where several are possible.

        Another test file is never taken for one of these: it may have tests of the same names.
        """
        place = os.path.abspath(entry.file) if entry.file else ""
        if place in self._paths:
            return self._paths[place]
        name = os.path.basename(place)
        if any(fnmatch(name, glob) for glob in self._globs) and os.path.exists(place):
            return self._elsewhere
        return self._place if len(self._paths) == 1 else ""

    def _file(self, address: str) -> str:
        path = address.partition("#")[0]
        return next((file for file, known in self._paths.items() if known == path), "")

    def close(self, verdict: Verdict) -> None:
        """What has no entry is an error; so is an exit code that says something else."""
        code, known = verdict.code, (*self._run["passed"], *self._run["failed"])
        strange = "" if code in known else how_it_ended(code)
        if self._parts is not None:
            self._close_file(self._parts, verdict, strange)
            return
        outcome = "timed out" if verdict.ended else "errored"
        silent = f"no result came back ({how_it_ended(code)})" if code else "no result came back"
        why = verdict.ended or verdict.trouble
        if waiting := [test for tests in self._left.values() for test in tests]:
            why = why or (f"the launcher ended: {strange}" if strange else silent)
            addresses = [test.address for test in waiting]
            told = {"outcome": outcome, "message": why, "account": "missing"}
            self.end(addresses[:1], told, verdict.output)  # said once, however many they are
            self.end(addresses[1:], told, "")
        elif wrong := why or self._disagreement(code, strange):
            self.end([self._place], {"outcome": outcome, "message": wrong}, verdict.output)

    def _close_file(self, parts: Sequence[Message], verdict: Verdict, strange: str) -> None:
        failed = sum(part["outcome"] in BAD for part in parts)
        wrong = verdict.ended or verdict.trouble
        wrong = wrong or ("" if self._told else strange or "no result came back")
        wrong = wrong or self._disagreement(verdict.code, strange)
        outcome = "errored" if wrong else "failed" if failed else "passed"
        told = {
            "outcome": "timed out" if verdict.ended else outcome, "parts": parts,
            "message": wrong or (f"{failed} of {len(parts)} failed" if failed else ""),
            "seconds": verdict.seconds,
        }  # fmt: skip
        self.end([self._place], told, verdict.output)

    def _disagreement(self, code: int, strange: str) -> str:
        """What is wrong where the exit code and the report say different things."""
        if strange:
            return f"the launcher ended: {strange}, though its report is whole"
        if self._bad and code not in self._run["failed"]:
            return f"tests failed in the report, but the exit code is {code}"
        if not self._bad and code not in self._run["passed"]:
            return f"no test failed in the report, but the exit code is {code}"
        return ""

    def end_all(self, verdict: Message) -> None:
        """The same of every test of the call."""
        self.end([test.address for test in self._asked.tests], verdict, "")

    def end(self, addresses: Iterable[str], verdict: Message, output: str) -> None:
        """The same of each of these, with what the launcher printed."""
        for address in addresses:
            self._start(address)
            self._say(address, output)
            self._channel.send({"type": "finished", "address": address, "seconds": 0.0, **verdict})

    def _start(self, address: str) -> None:
        if not (self._ahead and self._channel.prompt and address == self._ahead.address):
            self._channel.hold({"type": "started", "address": address})

    def _say(self, address: str, text: str) -> None:
        self._channel.hold({"type": "output", "address": address, "stream": "both", "text": text})


def _told(entry: Entry, file: str) -> Message:
    told: Message = {"message": entry.message, "trace": entry.detail}
    if entry.parts:
        told["parts"] = [{"name": p.name, "outcome": str(p.outcome)} for p in entry.parts]
    if entry.line:
        place = os.path.abspath(entry.file) if entry.file else file
        told["frames"] = [{"file": place, "line": entry.line, "function": entry.name}]
    return told


def _attempt(entry: Entry) -> Message:
    return {
        "outcome": str(entry.outcome), "seconds": entry.seconds, "message": entry.message,
        "trace": entry.detail, "output": entry.output,
    }  # fmt: skip


def _part(entry: Entry, name: str) -> Message:
    message = entry.message or entry.detail
    return {
        "name": name, "outcome": str(entry.outcome), "message": message,
        "seconds": entry.seconds, "line": entry.line,
    }  # fmt: skip
