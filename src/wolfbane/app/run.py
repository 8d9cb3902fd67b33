"""Runs tests: records the run, writes its reports, updates the history, and cleans up."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from wolfbane.app.ready import ReadyRun
from wolfbane.app.selection import Selected
from wolfbane.basis.this_machine import available_cores
from wolfbane.browsers.run_browsers import Pause
from wolfbane.errors import InputError, WolfbaneError
from wolfbane.events.run_events import EventListener
from wolfbane.execution.recorded import recording
from wolfbane.execution.session import Session
from wolfbane.inventory.documents import keep_with_run
from wolfbane.kinds.protocols import launcher_of
from wolfbane.model import at
from wolfbane.results.history.url import history_url
from wolfbane.results.record import Record
from wolfbane.results.runs import new_run
from wolfbane.setup.run_inputs import RunInputs
from wolfbane.setup.run_request import RunRequest
from wolfbane.workspace.settings import Keep, Workspace
from wolfbane.workspace.working_copy import SuiteStateQuestion

if TYPE_CHECKING:
    from wolfbane.environments import Environment
    from wolfbane.model import Result, Test
    from wolfbane.planning.plan import Plan
    from wolfbane.results.newest import Newest
    from wolfbane.results.record import Record
    from wolfbane.workspace.settings import Workspace


LATELY = 10
"""Number of earlier runs that count for quarantined tests."""


class RunPlan(msgspec.Struct, frozen=True):
    """The tests that would run. ``broken`` are the results of files that cannot be loaded.

    ``whole_files`` names suites that can only run whole files.
    """

    plan: Plan
    broken: Sequence[Result]
    whole_files: Sequence[str]


class RunEnd(msgspec.Struct, frozen=True):
    """The end of a run. ``problems`` are problems other than failed tests."""

    exit_code: int
    record: Record
    problems: tuple[str, ...] = ()


def plan_run(ready: ReadyRun) -> RunPlan:
    """Compute the tests that would run, without running any. Raises NothingChosen."""
    workspace = ready.workspace
    folder = new_run(workspace.results)
    session = Session(inputs_of(ready), folder.name)
    _weigh_with(session, ready)
    try:
        plan = session.plan(folder, trusting=True)
    finally:
        shutil.rmtree(folder)
    whole = [
        suite.name
        for suite in workspace.suites
        if (launcher := launcher_of(suite)) and launcher.runs_whole_files(workspace.root, suite)
    ]
    return RunPlan(plan, session.broken, whole)


def collect_exactly(selected: Selected, environment: Environment) -> None:
    """Load the selected files in workers, so that the inventory has their exact tests."""
    known = selected.newest.known({environment.label: environment.name})
    folder = new_run(selected.inventory.workspace.results)
    request = RunRequest(jobs=available_cores())
    inputs = RunInputs(
        inventory=selected.inventory,
        choice=selected.choice,
        request=request,
        known=known,
        environments=[environment],
    )
    try:
        Session(inputs, folder.name).plan(folder)
    finally:
        shutil.rmtree(folder)


def carry_out(ready: ReadyRun, *listeners: EventListener, pause: Pause | None = None) -> RunEnd:
    """Run a prepared run; listeners receive every event. Raises NothingChosen.

    ``pause`` asks the user to look at an open browser. Without it, no browser is kept open.
    """
    folder, session = start_run(ready)
    if pause is not None:
        session.pause_with(pause)
    return record_session(ready, folder, session, newest=ready.selected.newest, listeners=listeners)


def _session(ready: ReadyRun, run: str) -> Session:
    if ready.request.on:
        from wolfbane.cluster.here.cluster_executor import ClusterExecutor  # only where wanted

        inputs = inputs_of(ready)
        return Session(inputs, run, executor=ClusterExecutor(inputs, run))
    return Session(inputs_of(ready), run)


def record_session(
    ready: ReadyRun,
    folder: Path,
    session: Session,
    newest: Newest | None,
    listeners: Sequence[EventListener],
) -> RunEnd:
    """Execute a session and record it; ``newest`` stores its outcomes."""
    for listener in listeners:
        session.listen(listener)
    with recording(session, folder, newest) as recorded:
        code = session.execute(folder)
    return RunEnd(code, recorded.record, (*recorded.problems, *finish_run(ready, recorded.record)))


def start_run(ready: ReadyRun) -> tuple[Path, Session]:
    """A new folder for a run, and its session."""
    folder = new_run(ready.workspace.results)
    keep_with_run(ready.copies, ready.workspace.root, folder)
    try:
        session = _session(ready, folder.name)
    except WolfbaneError:
        shutil.rmtree(folder)
        raise
    session.look_back(lambda tests: _lately(ready.workspace, tests, ready.environments[0]))
    _weigh_with(session, ready)
    return folder, session


def _weigh_with(session: Session, ready: ReadyRun) -> None:
    """Divide the plan by recorded durations if the run is a share."""
    if ready.request.share is not None:
        from wolfbane.app.share_weights import weigh

        names = {each.label: each.name for each in ready.environments}
        session.weigh_with(lambda tests: weigh(ready.workspace, names, tests))


def finish_run(ready: ReadyRun, record: Record) -> tuple[str, ...]:
    """Write reports, add the run to the history, send mail, clean up. Returns the problems.

    Raises InputError if a report could not be written.
    """
    workspace = ready.workspace
    if ready.targets:
        from wolfbane.reports.report_files import write_reports

        write_reports(ready.targets, record)
    problems = [*_add_to_history(workspace)]
    if ready.request.mail_to:
        problems += mail_run(workspace, record, ready.request)
    if workspace.settings.keep != Keep():
        from wolfbane.results.retention import tidy

        problems += tidy(workspace, datetime.now())
    return tuple(problems)


def inputs_of(ready: ReadyRun) -> RunInputs:
    """The objects that a session needs."""
    documents = {copy.url: copy.description for copy in ready.copies}
    return RunInputs(
        inventory=ready.selected.inventory,
        choice=ready.choice,
        request=ready.request,
        known=ready.known,
        environments=ready.environments,
        documents=documents,
        warnings=ready.warnings,
        quarantine=ready.quarantine,
        suite_state=SuiteStateQuestion(ready.workspace).answer,
        head_start=ready.head_start,
    )


def _lately(
    workspace: Workspace, tests: Sequence[Test], environment: Environment
) -> dict[str, str]:
    """How often tests passed in their newest runs; empty if the history cannot be read.

    ``environment`` is that of tests whose addresses have none.
    """
    from wolfbane.results.history.opening import open_history
    from wolfbane.results.history.queries import histories

    try:
        store, _ = open_history(workspace)
        places = [replace(test, target="").address for test in tests]
        variants = [t.address if t.target else at(t.address, environment.name) for t in tests]
        recorded = histories(store, variants, store.runs_of(places, LATELY))
    except InputError:
        return {}
    pairs = zip(tests, recorded, strict=True)
    return {t.address: f"{each.passed} of {len(each.counted)}" for t, each in pairs if each.counted}


def _add_to_history(workspace: Workspace) -> Iterator[str]:
    """Add the run to the team's history; returns the reason if that failed."""
    if history_url(workspace):
        from wolfbane.results.history.opening import open_history

        try:
            _, problems = open_history(workspace)
            yield from problems
        except InputError as error:
            yield f"this run was not added to the team's history: {error}"


def mail_run(workspace: Workspace, record: Record, request: RunRequest) -> Iterator[str]:
    """Send the requested mail. Yields the reason if it cannot be sent."""
    from wolfbane.reports.mail.message import compose
    from wolfbane.reports.mail.smtp import read_recipients, send
    from wolfbane.results.previous_run import is_news, since_the_one_before

    mail, finished = workspace.settings.mail, record.finished
    assert mail is not None and record.started is not None and finished is not None
    run = record.started.run
    try:
        entries = record.started.quarantined
        apart = frozenset(each.variant for each in record.results if each.address in entries)
        since = since_the_one_before(workspace, run, apart)
        if request.mail_when == "changed" and not is_news(since, failed=finished.exit_code != 0):
            return
        link = mail.report_url.replace("{run}", run)
        recipients = read_recipients(request.mail_to)
        send(
            compose(record, since, link, sender=mail.sender, recipients=recipients),
            mail,
            workspace.home,
        )
    except InputError as error:
        yield str(error)
