"""Sends mails over SMTP (RFC 5321), with TLS (RFC 3207 and 8314)."""

from __future__ import annotations

import os
import re
import smtplib
import ssl
from collections.abc import Mapping, Sequence
from email.message import EmailMessage
from email.utils import formataddr, getaddresses
from pathlib import Path

from wolfbane.errors import InputError, Problem
from wolfbane.workspace.settings import Mail

PASSWORD = "WOLFBANE_MAIL_PASSWORD"
_LIMIT = 30
_PORTS = {"starttls": 587, "tls": 465, "none": 25}


def check_mail(mail: Mail | None, recipients: Sequence[str]) -> None:
    """Check before a run whether its mail can be sent. Raises InputError."""
    if mail is None:
        hint = 'add [mail] with server = "HOST" and sender = "ADDRESS" to wolfbane.toml'
        raise InputError(Problem("--mail-to: no mail server is configured", hint=hint))
    read_recipients(recipients)
    if mail.user and PASSWORD not in os.environ:
        hint = f"set the environment variable {PASSWORD}"
        raise InputError(
            Problem(f"--mail-to: no password is set for the mail user '{mail.user}'", hint=hint)
        )


def read_recipients(given: Sequence[str]) -> list[str]:
    """Addresses in the form of mails (RFC 5322), from texts with one or several addresses.

    ``crew@harbour.example, Harbour master <master@harbour.example>``. Raises InputError.
    """
    addresses = []
    for text in given:
        for name, address in getaddresses([text]):
            user, at, host = address.partition("@")
            whole = user and at and host and "@" not in host and not re.search(r"\s", address)
            if not whole or not text.isprintable():
                hint = "for example: crew@harbour.example, or Crew <crew@harbour.example>"
                raise InputError(Problem(f"--mail-to {text!r}: not a mail address", hint=hint))
            addresses.append(formataddr((name, address)))
    return list(dict.fromkeys(addresses))


def send(message: EmailMessage, mail: Mail, root: Path) -> None:
    """Send a mail to the server. Raises InputError if the server rejects it, or some recipients."""
    host, _, port = mail.server.partition(":")
    if port:
        number = int(port)
    else:
        number = _PORTS[mail.security]
    try:
        context = ssl.create_default_context(cafile=str(root / mail.ca) if mail.ca else None)
        if mail.security == "tls":
            server: smtplib.SMTP = smtplib.SMTP_SSL(host, number, timeout=_LIMIT, context=context)
        else:
            server = smtplib.SMTP(host, number, timeout=_LIMIT)
        with server:
            if mail.security == "starttls":
                server.starttls(context=context)
            if mail.user:
                server.login(mail.user, os.environ[PASSWORD])
            refused = server.send_message(message)
    except (OSError, smtplib.SMTPException) as error:
        problem = _said(error)
        raise InputError(
            Problem(f"cannot send the mail through {mail.server}: {problem}")
        ) from None
    if refused:
        reasons = _by_recipient(refused)
        problem = f"{mail.server} sent the mail, but not to all recipients: {reasons}"
        raise InputError(Problem(problem))


def _by_recipient(refused: Mapping[str, tuple[int, bytes]]) -> str:
    return "; ".join(
        f"{who}: {answer.decode(errors='replace')}" for who, (_, answer) in refused.items()
    )


def _said(error: Exception) -> str:
    """The server's message, without repeated codes for each recipient."""
    if isinstance(error, smtplib.SMTPRecipientsRefused):
        return _by_recipient(error.recipients)
    if isinstance(error, smtplib.SMTPResponseException):
        answer = error.smtp_error
        if isinstance(answer, bytes):
            return answer.decode(errors="replace")
        return str(answer)
    return str(error)
