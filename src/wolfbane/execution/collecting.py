"""Ask workers for the exact tests of files, before anything is decided."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from wolfbane.execution.building import BuildFailure
from wolfbane.execution.channel import Message
from wolfbane.execution.pool import Pool, Slot, Unstartable
from wolfbane.execution.results import ResultMaker
from wolfbane.execution.worker import End
from wolfbane.kinds.registry import find_kind
from wolfbane.kinds.suite import Suite
from wolfbane.model import Outcome, Result, Tag, Test, TestFile
from wolfbane.workspace.settings import Workspace

_NAMED = "a test is named after a secret, and names are written everywhere"


@dataclass
class Collected:
    """Exact files, and results for the files that could not be loaded."""

    files: list[TestFile] = field(default_factory=list)
    broken: list[Result] = field(default_factory=list)


def blocked_by_build(
    maker: ResultMaker,
    workspace: Workspace,
    files: Sequence[TestFile],
    failures: Mapping[str, BuildFailure],
    target: str,
) -> list[Result]:
    """The files of suites whose build failed; the first of each suite has its output."""
    results = []
    told: set[str] = set()
    present = {file.suite for file in files}
    absent = [
        TestFile(suite.paths[0], suite.name, suite.kind)
        for suite in workspace.suites
        if suite.name in failures and suite.name not in present
    ]
    for file in [*files, *absent]:
        failure = failures[file.suite]
        output = "" if file.suite in told else failure.output
        told.add(file.suite)
        message = {"outcome": Outcome.BLOCKED, "message": failure.message}
        results.append(maker.make(_whole(file, target), message, output))
    return results


async def collect(
    pool: Pool,
    workspace: Workspace,
    files: Sequence[TestFile],
    times: Mapping[str, float],
    timeout: float | None,
    told: Callable[[int], None],
    building: Callable[[str, str], None],
    target: str = "",
) -> Collected:
    """Collect every file in the pool's workers, the largest first, against one target.

    ``told`` hears how many are done, ``building`` the suite and words of a worker that has to
    make something first.
    """
    collected = Collected(files=[file for file in files if is_known(file)])
    for file in (file for file in files if file.lost):
        message = {"outcome": Outcome.ERRORED, "message": file.error}
        collected.broken.append(pool.maker.make(_whole(file, target), message, ""))
    known = {file.path for file in collected.files}
    waiting = [file for file in files if file.path not in known and not file.lost]
    waiting.sort(key=lambda file: sum(times.get(t.address, 0.01) for t in file.tests))
    done = 0

    async def work(slot: Slot) -> None:
        nonlocal done
        await slot.turn_to(target)
        while waiting and not pool.stopping:
            file = waiting.pop()
            suite = workspace.suite(file.suite)
            await _one(slot, workspace, file, timeout, collected, building)
            slot.release(suite)
            done += 1
            told(done)

    await pool.each(work)
    order = {file.path: index for index, file in enumerate(files)}
    collected.files.sort(key=lambda file: order[file.path])
    collected.broken.sort(key=lambda result: order[result.path])
    return collected


def is_known(file: TestFile) -> bool:
    """Whether no worker need be asked: the source tells all, or it was asked before."""
    engine = find_kind(file.kind)
    if file.error:
        return False
    return file.complete and (engine.scan_is_exact or (engine.loads_afresh and file.exact))


async def _one(
    slot: Slot,
    workspace: Workspace,
    file: TestFile,
    timeout: float | None,
    into: Collected,
    progress: Callable[[str, str], None],
) -> None:
    suite = workspace.suite(file.suite)
    tests: list[Test] = []
    answer: Message = {}

    def listen(message: Message) -> None:
        if message["type"] == "test":
            test = _test(file, message)
            if slot.pool.telltale(test.name) != test.name:
                answer.update(outcome=Outcome.ERRORED, message=f"{_NAMED}: {test.name}")
            tests.append(test)
        elif message["type"] == "collected":
            answer.update(message)
        elif message["type"] == "progress":
            progress(file.suite, str(message["text"]))

    limit = timeout or workspace.limit(suite)
    try:
        worker = await slot.worker(suite, _first_browser(suite))
    except Unstartable as error:
        if not slot.pool.stopping:
            into.broken.append(_broken(slot, file, Outcome.BLOCKED, str(error)))
        return
    slot.expect(suite, _first_browser(suite))
    request = {"type": "collect", "files": [file.path]}
    outcome = await worker.ask(request, "collected", listen, limit)
    if outcome.end is End.STOPPED:
        return
    if outcome.end is not End.DONE:
        words = f"while the file was loaded: {outcome.words or outcome.end.value}"
        if outcome.end is End.TIMED_OUT:
            words = f"not loaded within {limit:g} s"
        ended = {End.TIMED_OUT: Outcome.TIMED_OUT, End.CRASHED: Outcome.CRASHED}
        kind = ended.get(outcome.end, Outcome.ERRORED)
        into.broken.append(_broken(slot, file, kind, words, worker.printed()))
        await slot.drop(suite.name)
    elif "outcome" in answer:
        problem = {**answer, "message": answer.get("message", "")}
        output = str(answer.get("output", ""))
        into.broken.append(
            slot.pool.maker.make(_whole(file, slot.target), problem, output)
        )  # fmt: skip
        words = str(answer.get("message", "")) or str(answer["outcome"])
        into.files.append(replace(file, error=words))
    else:
        worker.loaded.add(file.path)
        into.files.append(
            replace(
                file,
                tests=tuple(tests),
                exact=True,
                divisible=bool(answer.get("divisible", False)),
                depends=tuple(str(p) for p in answer.get("depends", ()) if p != file.path),
                error="",
            )
        )


def _first_browser(suite: Suite) -> str:
    """A file may ask for its endpoint as soon as it is loaded: any browser's will do."""
    return suite.browsers[0] if suite.browsers else ""


def _test(file: TestFile, message: Mapping[str, Any]) -> Test:
    address = str(message["address"])
    if address != file.path and not address.startswith(f"{file.path}#"):
        raise ValueError(f"{address} is not in the file that was asked for")
    tags = tuple(Tag.parse(str(tag), "attribute") for tag in message.get("tags", ()))
    return Test(
        suite=file.suite,
        kind=file.kind,
        path=file.path,
        name=address[len(file.path) + 1 :],
        line=int(message.get("line", 0)),
        end=int(message.get("end", 0)),
        tags=tags,
        group=str(message.get("group", "")),
        exact=True,
        blocked=str(message.get("blocked", "")),
        focused=bool(message.get("focused", False)),
        called=str(message.get("called", "")),
    )


def _whole(file: TestFile, target: str) -> Test:
    """The file itself in the place of a test, for what befell it as a whole."""
    return Test(file.suite, file.kind, file.path, "", exact=True, target=target)


def _broken(slot: Slot, file: TestFile, outcome: Outcome, words: str, output: str = "") -> Result:
    message = {"outcome": outcome, "message": words}
    return slot.pool.maker.make(_whole(file, slot.target), message, output)
