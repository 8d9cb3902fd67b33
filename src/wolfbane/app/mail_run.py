"""Sends the result of a run by mail."""

from __future__ import annotations

from collections.abc import Iterator

from wolfbane.errors import InputError
from wolfbane.results.record import Record
from wolfbane.setup.run_request import RunRequest
from wolfbane.workspace.settings import Workspace


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
        send(compose(record, since, link, mail.sender, recipients), mail, workspace.home)
    except InputError as error:
        yield str(error)
