"""Mails about runs, sent to a real server of the tests' own, in TLS and with a password."""

from __future__ import annotations

import email
import email.policy
import re
import socket
import ssl
from textwrap import dedent

import pytest
import trustme
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

from conftest import suite

PASSWORD = "WOLFBANE_MAIL_PASSWORD"
SUITE = """
    # tags: smoke
    def test_good():
        pass

    def test_bad():
        assert "<b>berth</b>" == "", "no <b>berth</b>"
"""


class Box:
    """Keeps what comes; mails to ``nobody`` are refused."""

    def __init__(self):
        self.mails = []

    async def handle_RCPT(self, server, session, envelope, address, options):
        if address.startswith("nobody"):
            return "550 no such desk"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope):
        read = email.message_from_bytes(envelope.content, policy=email.policy.default)
        self.mails.append((envelope.rcpt_tos, read))
        return "250 taken"


def free_port():
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return free.getsockname()[1]


def settings(controller, more=""):
    return f"""
        [workspace]
        name = "Saltmarsh Quay"

        [[suite]]
        name = "quay"
        kind = "python"
        paths = ["test_a.py"]

        [mail]
        server = "localhost:{controller.port}"
        sender = "tests@harbour.example"
        {more}
    """


@pytest.fixture
def box():
    return Box()


@pytest.fixture
def plain(box):
    controller = Controller(box, hostname="127.0.0.1", port=free_port())
    controller.start()
    yield controller
    controller.stop()


@pytest.fixture
def secure(box, tmp_path):
    authority = trustme.CA()
    authority.cert_pem.write_to_path(str(tmp_path / "ca.pem"))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("localhost").configure_cert(context)

    def check(server, session, envelope, mechanism, data):
        right = (data.login, data.password) == (b"quay", b"sesame")
        return AuthResult(success=right, handled=False)

    controller = Controller(
        box,
        hostname="127.0.0.1",
        port=free_port(),
        tls_context=context,
        require_starttls=True,
        authenticator=check,
        auth_required=True,
    )
    controller.start()
    yield controller
    controller.stop()


def test_a_mail_has_the_verdict_the_news_and_the_report(folder, box, secure):
    more = 'user = "quay"\n        ca = "ca.pem"'
    folder.file("wolfbane.toml", settings(secure, more))
    folder.file("test_a.py", SUITE)
    run = folder.run("--mail-to", "crew@harbour.example", **{PASSWORD: "sesame"})
    assert (run.code, run.err) == (1, "")
    [(recipients, mail)] = box.mails
    assert recipients == ["crew@harbour.example"]
    assert mail["Subject"] == "Saltmarsh Quay: 1 of 2 tests failed"
    text = mail.get_body(("plain",)).get_content().replace("\r\n", "\n")
    assert "1 passed, 1 failed in" in text
    assert "failed  test_a.py#test_bad\n      no <b>berth</b>" in text
    assert re.search(r"wolfbane again \S+ --failed", text)
    page = mail.get_body(("html",)).get_content()
    assert "no &lt;b&gt;berth&lt;/b&gt;" in page and "<b>berth" not in page
    [report] = mail.iter_attachments()
    assert report.get_filename().endswith(".html")
    assert "Content-Security-Policy" in report.get_content()
    wrong = folder.run("--mail-to", "crew@harbour.example", **{PASSWORD: "guessed"})
    assert (wrong.code, len(box.mails)) == (1, 1)
    assert "wolfbane: cannot send the mail through localhost" in wrong.err
    assert "sesame" not in wrong.err and "guessed" not in wrong.err


def test_only_news_if_that_is_wanted(folder, box, plain):
    more = 'security = "none"\n        report_url = "https://ci.harbour.example/{run}"'
    folder.file("wolfbane.toml", settings(plain, more))
    folder.file("test_a.py", SUITE)
    asked = ("--mail-to", "crew@harbour.example", "--mail-when", "changed")
    folder.run(*asked)
    folder.run(*asked)
    assert len(box.mails) == 1
    folder.file("test_a.py", "def test_good():\n    assert 0\n\ndef test_bad():\n    pass\n")
    assert folder.run(*asked).err == ""
    assert len(box.mails) == 2
    mail = box.mails[1][1]
    text = mail.get_body(("plain",)).get_content().replace("\r\n", "\n")
    assert "newly failing  test_a.py#test_good" in text
    assert "fixed          test_a.py#test_bad" in text
    assert "Full report: https://ci.harbour.example/2" in text
    assert list(mail.iter_attachments()) == []


def test_a_mail_that_cannot_go_is_said(folder, box, plain):
    folder.file("test_a.py", SUITE)
    none = folder.call("run", "--mail-to", "crew@harbour.example")
    assert (none.code, "no mail server is configured" in none.err) == (2, True)
    folder.file("wolfbane.toml", settings(plain, 'security = "none"'))
    wrong = folder.call("run", "--mail-to", "crew\nBcc: all@harbour.example")
    assert (wrong.code, "not a mail address" in wrong.err) == (2, True)
    refused = folder.run("--mail-to", "nobody@harbour.example")
    assert refused.code == 1
    assert "cannot send the mail through localhost" in refused.err and "no such desk" in refused.err
    some = folder.run("--mail-to", "nobody@harbour.example, crew@harbour.example")
    assert "not to all recipients: nobody@harbour.example: " in " ".join(some.err.split())
    port = free_port()
    nowhere = settings(plain, 'security = "none"').replace(str(plain.port), str(port))
    folder.file("wolfbane.toml", nowhere)
    away = folder.run("--mail-to", "crew@harbour.example")
    assert (away.code, f"localhost:{port}" in away.err) == (1, True)
    folder.file("wolfbane.toml", settings(plain, 'user = "quay"'))
    secret = folder.call("run", "--mail-to", "crew@harbour.example")
    assert (secret.code, PASSWORD in secret.err) == (2, True)
    shown = folder.call("report", "--as", "mail")
    assert "Subject: Saltmarsh Quay: 1 of 2 tests failed" in shown.out


def test_lists_names_and_blocked_tests(folder, box, plain):
    toml = settings(plain, 'security = "none"')
    gone = suite("gone", "python", "test_b.py", python="nowhere/python")
    folder.file("wolfbane.toml", dedent(toml) + gone)
    folder.file("test_a.py", SUITE)
    folder.file("test_b.py", "def test_far(): pass\n")
    run = folder.run(
        "--mail-to",
        "crew@harbour.example, Harbour master <master@harbour.example>",
        "--mail-to",
        '"Quay, north" <quay@harbour.example>',
    )
    assert run.err == ""
    [(recipients, mail)] = box.mails
    assert recipients == ["crew@harbour.example", "master@harbour.example", "quay@harbour.example"]
    assert [address.display_name for address in mail["To"].addresses] == [
        "",
        "Harbour master",
        "Quay, north",
    ]
    text = mail.get_body(("plain",)).get_content().replace("\r\n", "\n")
    failed, blocked = text.partition("Failed tests:")[2].split("Blocked tests:\n")
    assert "test_a.py#test_bad" in failed and "test_b.py" not in failed
    assert blocked.startswith("  blocked  test_b.py") and "nowhere/python" in blocked
    assert ">Blocked tests</h2>" in mail.get_body(("html",)).get_content()
    wrong = folder.run("--mail-to", "crew@harbour.example, the master")
    assert (wrong.code, "not a mail address; for example: crew@" in wrong.err) == (2, True)
