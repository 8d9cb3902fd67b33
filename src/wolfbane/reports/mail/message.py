"""The mail about a run: the verdict in short, with the report attached."""

from __future__ import annotations

from collections.abc import Sequence
from email.message import EmailMessage
from email.utils import formatdate, make_msgid

import jinja2

from wolfbane.model import Outcome, Result
from wolfbane.reports.console.excerpt import excerpt_lines
from wolfbane.reports.html import write_html
from wolfbane.reports.text import clock, in_line, many, repeating_failed, visible
from wolfbane.reports.verdict import sentence_of
from wolfbane.results.compare import Comparison
from wolfbane.results.record import Record

MOST = 15
LARGEST = 8 << 20
"""Maximum size in bytes of an attached report."""
_TEMPLATES = jinja2.Environment(
    loader=jinja2.PackageLoader("wolfbane.reports.mail", "templates"),
    autoescape=jinja2.select_autoescape(["html"]),
    undefined=jinja2.StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)
_TEMPLATES.globals.update(
    visible=visible, in_line=in_line, many=many, clock=clock, excerpt_lines=excerpt_lines
)


def write_mail(record: Record) -> bytes:
    """The mail of a run as a file, without recipients."""
    return compose(record).as_bytes()


def compose(
    record: Record,
    since: Comparison | None = None,
    link: str = "",
    sender: str = "",
    recipients: Sequence[str] = (),
) -> EmailMessage:
    """The mail of a run in the form of RFC 5322. With a ``link``, the report is not attached."""
    started, finished = record.started, record.finished
    verdict = sentence_of(record)
    title = visible(started.workspace) if started else "Tests"
    targets = started.targets if started else ()
    places = [name for t in targets if (name := t.label or t.environment)]
    against = f" ({', '.join(places)})" if places else ""
    message = EmailMessage()
    message["Subject"] = _one_line(f"{title}: {verdict}{against}")
    message["Date"] = formatdate(localtime=True)
    message["Message-ID"] = make_msgid(domain="wolfbane.invalid")
    message["Auto-Submitted"] = "auto-generated"
    for header, text in (("From", sender), ("To", ", ".join(recipients))):
        if text:
            message[header] = text
    report = b"" if link else write_html(record)
    attached = 0 < len(report) <= LARGEST
    pointed = started.pointed if started else ()
    values = {
        "name": title,
        "verdict": verdict,
        "run": started,
        "finished": finished,
        "link": link,
        "good": bool(finished and finished.exit_code == 0),
        "since": since,
        "attached": attached,
        "groups": [group for group in _groups(_bad(record)) if group[1]],
        "places": places,
        "again": repeating_failed(started.run, pointed) if started else "",
        "first": lambda text: _one_line(visible(text).strip().partition("\n")[0])[:200],
    }
    message.set_content(_TEMPLATES.get_template("mail.txt").render(values))
    message.add_alternative(_TEMPLATES.get_template("mail.html").render(values), subtype="html")
    if attached:
        file = f"{started.run if started else 'report'}.html"
        message.add_attachment(report, maintype="text", subtype="html", filename=file)
    return message


def _bad(record: Record) -> list[Result]:
    """The results that the mail shows: failures that are not quarantined."""
    if record.started:
        quarantined = record.started.quarantined
    else:
        quarantined = {}
    return [r for r in record.results if r.address not in quarantined and _is_shown(r)]


def _groups(bad: Sequence[Result]) -> list[tuple[str, Sequence[Result], int]]:
    """Failed and blocked tests, each with a heading, and the number of omitted ones."""
    blocked = [result for result in bad if result.outcome is Outcome.BLOCKED]
    failed = [result for result in bad if result.outcome is not Outcome.BLOCKED]
    return [
        (title, members[:MOST], max(len(members) - MOST, 0))
        for title, members in (("Failed tests", failed), ("Blocked tests", blocked))
    ]


def _is_shown(result: Result) -> bool:
    return result.outcome.is_failure


def _one_line(text: str) -> str:
    return " ".join(text.split())
