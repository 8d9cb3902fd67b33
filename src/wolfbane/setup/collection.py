"""Asks workers for the exact tests of files before the tests to run are decided."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Container, Mapping, Sequence
from typing import Protocol

import msgspec
from msgspec.structs import replace

from wolfbane.kinds.protocols import in_one_process, usual_process_scope
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.model import Outcome, Result, Tag, Test, TestFile
from wolfbane.setup.run_context import RunContext
from wolfbane.workers.launcher import Unstartable
from wolfbane.workers.message_data import Ending, ending
from wolfbane.workers.pool import Slot
from wolfbane.workers.protocol import (
    CollectedMessage,
    ProgressMessage,
    TestMessage,
    WorkerMessage,
    WrongMessage,
)
from wolfbane.workers.worker import End, RequestEnd

_FIRST_LINE, _NEXT_LINE = 0.9, 10.0
"""Seconds after which a file that is still loading is reported, and reported again."""
_NAMED = "the name of a test contains a secret, and test names cannot be masked"


class Progress(Protocol):
    """Receives the number of collected files, and a file that takes long with its seconds."""

    def __call__(self, done: int, file: str = "", seconds: float = 0.0) -> None: ...


class Collected(msgspec.Struct):
    """Exact files, and results for the files that could not be loaded."""

    files: list[TestFile] = msgspec.field(default_factory=list)
    broken: list[Result] = msgspec.field(default_factory=list)
    unstartable: list[tuple[TestFile, str]] = msgspec.field(default_factory=list)
    """Files whose worker could not start, with the reason."""

    def sort(self, paths: Sequence[str]) -> None:
        """Put files and results in the order of these paths."""
        order = {path: index for index, path in enumerate(paths)}
        self.files.sort(key=lambda file: order[file.path])
        self.broken.sort(key=lambda result: order[result.path])


async def collect(
    context: RunContext,
    files: Sequence[TestFile],
    *,
    times: Mapping[str, float],
    timeout: float | None,
    progress: Progress,
    building: Callable[[str, str], None],
    target: str = "",
    trusting: bool = False,
) -> Collected:
    """Collect every file in the pool's workers, the largest first, for one target.

    ``progress`` receives the number of collected files, and at intervals the file that has been
    loading for the longest time, with its seconds. ``building`` receives the suite and the message
    of a worker that must build something first. ``trusting`` is as in :func:`is_known`.
    """
    collected = Collected(files=[file for file in files if is_known(file, trusting=trusting)])
    for file in (file for file in files if file.lost):
        end = ending(Outcome.ERRORED, file.error)
        collected.broken.append(context.results.make(_whole(file, target), end, ""))
    known = {file.path for file in collected.files}
    unknown = [file for file in files if file.path not in known and not file.lost]
    waiting = _queue(unknown, times, in_one_process(context.workspace.suites))
    done, loading = 0, dict[str, float]()

    async def work(slot: Slot) -> None:
        nonlocal done
        await slot.turn_to(target)
        while not context.pool.stopping and (file := _take(waiting, slot, context)):
            loading[file.path] = time.monotonic()
            await _one(slot, context, file, timeout=timeout, into=collected, progress=building)
            del loading[file.path]
            slot.release(context.workspace.suite(file.suite))
            done += 1
            progress(done)

    watching = asyncio.create_task(_watch(loading, lambda *slow: progress(done, *slow)))
    try:
        await context.pool.each(work)
    finally:
        watching.cancel()
    collected.sort([file.path for file in files])
    return collected


def _queue(
    files: Sequence[TestFile], times: Mapping[str, float], whole: Container[str]
) -> list[TestFile]:
    """The files in the order of collection, the first one last: large ones before small ones, but
    those of suites with one process, ``whole``, in the order of their names.
    """
    free = [file for file in files if file.suite not in whole]
    free.sort(key=lambda file: sum(times.get(t.address, 0.01) for t in file.tests))
    in_order = [file for file in files if file.suite in whole]
    in_order.sort(key=lambda file: file.path.split("/"), reverse=True)
    return [*free, *in_order]


def _take(waiting: list[TestFile], slot: Slot, context: RunContext) -> TestFile | None:
    """Take the next file that a slot may load; None if there is none."""
    for index in reversed(range(len(waiting))):
        if context.pool.may_serve(slot, context.workspace.suite(waiting[index].suite)):
            return waiting.pop(index)
    return None


async def _watch(loading: Mapping[str, float], tell: Callable[[str, float], None]) -> None:
    """Report the file that has been loading for the longest time, at intervals."""
    pause = _FIRST_LINE
    while True:
        await asyncio.sleep(pause)
        if loading:
            file, began = min(loading.items(), key=lambda entry: entry[1])
            tell(file, time.monotonic() - began)
        pause = _NEXT_LINE


def is_known(file: TestFile, *, trusting: bool = False) -> bool:
    """Whether no worker is needed, because the source shows all tests or a worker listed them
    before.

    ``trusting``: the earlier list for this content is sufficient, even if a worker loads the file
    anyway.
    """
    kind = find_kind(file.kind)
    if file.error:
        return False
    if trusting and file.exact and not file.dynamic:
        return True
    apart = usual_process_scope(file.kind) == "file"
    return file.complete and (kind.scan_is_exact or (apart and file.exact))


async def _one(
    slot: Slot,
    context: RunContext,
    file: TestFile,
    timeout: float | None,
    into: Collected,
    progress: Callable[[str, str], None],
) -> None:
    suite = context.workspace.suite(file.suite)
    answer = _Answer(file, lambda text: progress(file.suite, text))

    def broken(end: Ending, output: str = "") -> None:
        into.broken.append(context.results.make(_whole(file, slot.target), end, output))

    limit = timeout or context.workspace.limit(suite)
    try:
        worker = await slot.worker(suite, _first_browser(suite))
    except Unstartable as error:
        if not context.pool.stopping:
            into.unstartable.append((file, str(error)))
        return
    slot.expect(suite, _first_browser(suite))
    request = {"type": "collect", "files": [file.path]}
    done = await worker.ask(request, CollectedMessage, answer.listen, limit)
    if done.end is End.DONE:
        if end := answer.failure(context):
            broken(end, answer.output)
            into.files.append(replace(file, error=end.message or end.outcome))
        else:
            worker.loaded.add(file.path)
            into.files.append(answer.exact_file())
    elif done.end is not End.STOPPED:
        broken(_lost(done, limit), worker.printed())
        await slot.drop(suite.name)


class _Answer:
    """A worker's message about one file."""

    def __init__(self, file: TestFile, progress: Callable[[str], None]) -> None:
        self._file, self._progress = file, progress
        self._tests: list[Test] = []
        self._marks = set(file.only_marks)
        self._last: CollectedMessage | None = None

    def listen(self, message: WorkerMessage) -> None:
        """Process a message. Raises WrongMessage for a test of another file."""
        if isinstance(message, TestMessage):
            self._add(message)
        elif isinstance(message, CollectedMessage):
            if message.file != self._file.path:
                raise WrongMessage(
                    f"the worker reported on {message.file}, which was not requested"
                )
            for test in message.tests:
                self._add(test)
            self._last = message
        elif isinstance(message, ProgressMessage):
            self._progress(message.text)

    def _add(self, message: TestMessage) -> None:
        self._tests.append(_test(self._file, message))
        if message.marked:
            self._marks.add(message.line or 0)

    @property
    def output(self) -> str:
        """The output of the file while it was loaded."""
        if self._last:
            return self._last.output
        return ""

    def failure(self, context: RunContext) -> Ending | None:
        """The reason why the file cannot be run, if any."""
        secret = next((t.name for t in self._tests if context.names_a_secret(t.name)), "")
        if secret:
            return ending(Outcome.ERRORED, f"{_NAMED}: {secret}")
        last = self._last
        if last is None or last.outcome is None:
            return None
        return Ending(
            outcome=last.outcome, message=last.message, trace=last.trace, frames=last.frames
        )

    def exact_file(self) -> TestFile:
        """The file with its exact tests."""
        if self._last:
            depends = self._last.depends
        else:
            depends = ()
        return replace(
            self._file,
            tests=tuple(self._tests),
            exact=True,
            divisible=bool(self._last and self._last.divisible),
            depends=tuple(path for path in depends if path != self._file.path),
            error="",
            only_marks=tuple(sorted(self._marks)),
        )


def _lost(done: RequestEnd, limit: float) -> Ending:
    """A file whose worker ended while loading it."""
    message = f"while loading the file: {done.message or done.end.value}"
    if done.end is End.TIMED_OUT:
        message = f"the file was not loaded within {limit:g} s"
    outcomes = {End.TIMED_OUT: Outcome.TIMED_OUT, End.CRASHED: Outcome.CRASHED}
    return ending(outcomes.get(done.end, Outcome.ERRORED), message)


def _first_browser(suite: Suite) -> str:
    """A file may read its endpoint when it is loaded. The endpoint of any browser works."""
    if suite.browsers:
        return suite.browsers[0]
    return ""


def _test(file: TestFile, message: TestMessage) -> Test:
    address = message.address
    if address != file.path and not address.startswith(f"{file.path}#"):
        raise WrongMessage(f"the worker reported {address}, which is not in the requested file")
    return Test(
        suite=file.suite,
        kind=file.kind,
        path=file.path,
        name=address[len(file.path) + 1 :],
        line=message.line or 0,
        end=message.end or 0,
        tags=tuple(Tag.parse(tag, "attribute") for tag in message.tags),
        group=message.group,
        exact=True,
        blocked=message.blocked,
        focused=message.focused,
        source_name=message.called,
    )


def _whole(file: TestFile, target: str) -> Test:
    """The file itself as a test, for problems with the file as a whole."""
    return Test(
        suite=file.suite, kind=file.kind, path=file.path, name="", exact=True, target=target
    )
