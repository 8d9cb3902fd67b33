"""A workspace, a record or a report from a stranger can do nothing to the user who looks at it."""

from __future__ import annotations

import io
import json
import re
import socket
import sqlite3
import tarfile

import pytest

from hostile import SEQUENCES, hostile

D = 100_000
LOOKS = [
    "list",
    "list --as json",
    "list --changed HEAD",
    "list --at HEAD",
    "explain test_x",
    "show",
    "report --as markdown",
    "doctor",
    "init",
    "history",
    "open --no-browser",
    "runs",
    "env",
    "preset list",
    "quarantine list",
    "import books/quay.book",
    "join books",
    "compare",
]
CONTROL = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def test_to_look_at_a_workspace_runs_nothing_of_it(folder, tmp_path_factory):
    marks = tmp_path_factory.mktemp("marks") / "of"
    with socket.create_server(("127.0.0.1", 0)) as cluster:
        cluster.settimeout(0.01)
        hostile(folder, marks, f"tcp://127.0.0.1:{cluster.getsockname()[1]}")
        for command in LOOKS:
            done = folder.call(*command.split())
            assert "Traceback" not in done.err, command
            assert [mark.name for mark in marks.iterdir()] == [], command
        for line in ("wolfbane run --suite ", "wolfbane run tests/", "wolfbane run --env "):
            folder.call(WOLFBANE_COMPLETE="bash", WOLFBANE_LINE=line)
            assert [mark.name for mark in marks.iterdir()] == [], line
        with pytest.raises(TimeoutError):
            cluster.accept()
        folder.call("doctor", "--probe")
        assert {"value", ".venv-bin-python"} <= {mark.name for mark in marks.iterdir()}


@pytest.mark.parametrize("link", [True, False])
def test_results_go_to_no_other_folder(folder, tmp_path_factory, link):
    other = tmp_path_factory.mktemp("other")
    folder.file("tests/test_quay.py", "def test_x():\n    pass\n")
    if link:
        (folder.path / ".wolfbane").symlink_to(other)
    else:
        folder.file("wolfbane.toml", f'[workspace]\nresults = "{other}"\n')
    for command in ("list", "history", "run", "doctor", "explain test_x"):
        done = folder.call(*command.split())
        assert (done.code, "is outside of the workspace" in done.err) == (2, True), command
        assert list(other.iterdir()) == []
    (other / ".gitignore").write_text("*\n")
    assert folder.run().code == 0


@pytest.mark.parametrize("name", ["words", "history.sqlite", "runs"])
def test_a_link_in_the_results_is_refused(folder, tmp_path_factory, name):
    other = tmp_path_factory.mktemp("other")
    folder.file("tests/test_quay.py", "def test_x():\n    pass\n")
    folder.call("run")
    results = folder.path / ".wolfbane"
    (results / name).rename(results / f"{name}.old") if (results / name).exists() else None
    (results / name).symlink_to(other / name)
    for command in ("list", "history"):
        done = folder.call(command)
        assert (done.code, f"'{name}' in the folder" in done.err) == (2, True)
    assert list(other.iterdir()) == []


def test_settings_create_no_history_elsewhere(folder, tmp_path_factory):
    path = tmp_path_factory.mktemp("other") / "team.sqlite"
    folder.file("tests/test_quay.py", "def test_x():\n    pass\n")
    folder.file("wolfbane.toml", f'[workspace]\nhistory = "sqlite:///{path}"\n')
    done = folder.call("history")
    assert (done.code, f"WOLFBANE_HISTORY=sqlite:///{path}" in done.err) == (2, True)
    assert not path.exists()
    assert folder.call("history", WOLFBANE_HISTORY=f"sqlite:///{path}").code == 0
    assert path.exists()


def test_the_database_of_another_program_stays_as_it_is(folder):
    folder.file("tests/test_quay.py", "def test_x():\n    pass\n")
    folder.call("run")
    file = folder.path / "other.sqlite"
    with sqlite3.connect(file) as other:
        other.execute("CREATE TABLE places (name TEXT)")
    other.close()
    before = file.read_bytes()
    folder.file("wolfbane.toml", f'[workspace]\nhistory = "sqlite:///{file}"\n')
    done = folder.call("history")
    assert (done.code, "is a database of another program" in done.err) == (2, True)
    assert file.read_bytes() == before


def test_no_sequence_reaches_the_terminal(folder):
    name = SEQUENCES.replace("/", "")
    folder.file(
        f"tests/test_{name}.py",
        f"""
        import unittest
        class Quay(unittest.TestCase):
            def test_x(self):
                print({SEQUENCES!r})
                self.fail({SEQUENCES!r})
        """,
    )
    text = json.dumps(SEQUENCES)[1:-1]
    folder.file(
        "wolfbane.toml",
        f"""
        [workspace]
        name = "Quay {text}"
        [[suite]]
        name = "unit"
        kind = "python"
        paths = ["tests"]
        [preset.p]
        arguments = ["--name", "{text}"]
        help = "{text}"
        [browser.own]
        engine = "chromium"
        binary = "/no/{text}"
        """,
    )
    assert folder.call("run").code == 1
    for command in (
        "list",
        "list --as tree",
        "run",
        "doctor",
        "explain test_x",
        "preset list",
        "browsers",
        "preset show p",
        "history",
        "runs",
        "show",
        "show -v",
        "compare",
        "again --failed",
        "run --tag x",
        "list --as json",
    ):
        done = folder.call(*command.split())
        assert done.out + done.err, command
        assert not CONTROL.search(done.out + done.err), command
    refused = folder.call("run", f"tests/{SEQUENCES}")
    assert not CONTROL.search(refused.err)


def _record(folder):
    """A run, and its journal."""
    folder.file("tests/test_quay.py", "def test_x():\n    pass\n")
    assert folder.call("run", "--share", "1/1").code == 0
    [run] = (folder.path / ".wolfbane" / "runs").iterdir()
    return run, run / "journal.jsonl"


def _with_evidence(journal, path):
    lines = [json.loads(line) for line in journal.read_text().splitlines()]
    for line in lines:
        if "result" in line:
            line["result"]["evidence"] = [{"kind": "page", "path": path}]
    journal.write_text("".join(f"{json.dumps(line)}\n" for line in lines))


@pytest.mark.parametrize("path", ["/etc/passwd", "../../../secret.txt", "evidence/../../../x"])
@pytest.mark.parametrize("command", ["show", "report --as html --to out.html", "join RUN"])
def test_evidence_outside_of_its_record_is_refused(folder, path, command):
    run, journal = _record(folder)
    _with_evidence(journal, path)
    done = folder.call(*command.replace("RUN", str(run)).split())
    assert done.code == 2
    assert "is outside of the record" in done.err
    assert f"{journal.name}:" in done.err


def test_a_link_is_not_evidence(folder, tmp_path_factory):
    outside = tmp_path_factory.mktemp("outside")
    secret = outside / "secret.txt"
    secret.write_text("the key of the quay")
    run, journal = _record(folder)
    _with_evidence(journal, "evidence/page.html")
    (run / "evidence").mkdir()
    (run / "evidence" / "page.html").symlink_to(secret)
    assert folder.call("report", "--as", "html", "--to", "out.html").code == 0
    assert "the key of the quay" not in (folder.path / "out.html").read_text()
    assert folder.call("join", str(run)).code == 0
    runs = folder.path / ".wolfbane" / "runs"
    assert not [
        p
        for p in runs.rglob("*")
        if p.is_file()
        and not p.is_symlink()
        and "the key of the quay" in p.read_text(errors="replace")
    ]
    (run / "evidence" / "page.html").unlink()
    (run / "evidence").rmdir()
    (run / "evidence").symlink_to(outside)
    _with_evidence(journal, "evidence/secret.txt")
    assert folder.call("report", "last", "--as", "html", "--to", "out.html").code == 0
    assert "the key of the quay" not in (folder.path / "out.html").read_text()


def test_a_record_has_a_limit(folder):
    _, journal = _record(folder)
    with journal.open("r+b") as file:
        file.truncate(3 << 30)
    done = folder.call("show")
    assert (done.code, "the record is larger than 2.0 GB" in done.err) == (2, True), done.err


def _member(name, **facts):
    member = tarfile.TarInfo(name)
    for key, value in facts.items():
        setattr(member, key, value)
    return member


BOMB = 120 << 20
MEMBERS = {
    "a path that leads out": (_member("../out.txt", size=3), "outside"),
    "an absolute path": (_member("/tmp/quay/../../etc/x", size=3), ""),
    "a link": (_member("run/x", type=tarfile.SYMTYPE, linkname="/etc/passwd"), "is not a file"),
    "a hard link": (_member("run/x", type=tarfile.LNKTYPE, linkname="/etc/passwd"), "is not a fil"),
    "a device": (_member("run/x", type=tarfile.CHRTYPE), "is not a file"),
    "a pipe": (_member("run/x", type=tarfile.FIFOTYPE), "is not a file"),
    "too much": (_member("run/x", size=BOMB), "its files are larger than"),
}


@pytest.mark.parametrize("what", MEMBERS)
def test_archives_stay_in_their_folder(folder, what):
    _, journal = _record(folder)
    member, message = MEMBERS[what]
    with tarfile.open(folder.path / "share.tar.gz", "w:gz") as archive:
        archive.add(journal, "run/journal.jsonl")
        archive.addfile(member, io.BytesIO(bytes(member.size)))
    done = folder.call("join", "share.tar.gz")
    assert "Traceback" not in done.err
    if message:
        assert (done.code, message in done.err) == (2, True), done.err
    assert not (folder.path.parent / "out.txt").exists()
    assert len(list((folder.path / ".wolfbane" / "runs").iterdir())) == (1 if message else 2)


DEEP = b"[" * D + b"]" * D
TESTS = b'{"results": {"tests": [{"name": "a", "status": "passed", '
REPORTS = {
    "deep.json": b'{"a":' * D + b"1" + b"}" * D,
    "list.json": DEEP,
    "extra.json": TESTS + b'"extra": ' + DEEP + b"}]}}",
    "steps.json": TESTS + b'"steps": ' + b'[{"steps":' * D + b"[]" + b"}]" * D + b"}]}}",
    "ours.json": b'{"started": 5, "results": [], "finished": null}',
    "number.json": TESTS + b'"duration": ' + b"9" * 5000 + b"}]}}",
    "encoding.xml": b'<?xml version="1.0" encoding="no-such"?><testsuites/>',
    "wide.xml": b'<?xml version="1.0" encoding="utf-7"?><testsuites/>',
    "codec.xml": b'<?xml version="1.0" encoding="hex"?><testsuites/>',
    "time.xml": b'<testsuite name="a"><testcase name="b" time="1e999"/></testsuite>',
    "entity.xml": b'<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/passwd">]><testsuite>&x;</testsuite>',
    "deep.xml": b"<testsuites>" + b"<testsuite>" * D,
    "tags.tap": b"1..1\nnot ok 1\n  ---\n  a: !!python/object/apply:os.system [touch ran]\n  ...\n",
    "deep.tap": b"1..1\nnot ok 1\n  ---\n  a: " + DEEP[:5000] + b"\n  ...\n",
}


@pytest.mark.parametrize("name", REPORTS)
def test_reports_from_a_stranger_are_read_or_refused(folder, name):
    folder.file("tests/test_quay.py", "def test_x():\n    pass\n")
    folder.call("run")
    (folder.path / name).write_bytes(REPORTS[name])
    for command in (["import", name], ["compare", "last", name]):
        done = folder.call(*command)
        assert done.code in (0, 1, 2)
        assert "Traceback" not in done.err + done.out
        assert done.code == 0 or name in done.err
    assert not (folder.path / "ran").exists()
    assert "root:" not in done.out


@pytest.mark.parametrize(
    "settings",
    [
        "a = " + "[" * D + "]" * D,
        "[" + "a." * 20_000 + "b]",
        "a = " + "{b = " * D,
        '[[tag]]\nname = "x"\nmatch = "' + "not " * 20_000 + 'name:x"',
    ],
)
def test_deep_settings_are_refused(folder, settings):
    folder.file("wolfbane.toml", settings)
    done = folder.call("list")
    assert (done.code, "Traceback" in done.err) == (2, False)
    assert "wolfbane.toml" in done.err
    assert "nested" in done.err


def test_a_cluster_in_the_settings_must_be_trusted(folder):
    folder.file("tests/test_quay.py", "def test_x():\n    pass\n")
    folder.file("wolfbane.toml", '[cluster]\naddress = "tcp://192.0.2.1:8786"\n')
    for command in (["machines"], ["run", "--on", "cluster"]):
        done = folder.call(*command)
        assert (done.code, "is neither encrypted nor on this machine" in done.err) == (2, True)
        assert "WOLFBANE_CLUSTER=tcp://192.0.2.1:8786" in done.err


def test_cells_of_a_table_are_no_formulas(folder):
    folder.file(
        "tests/test_quay.py",
        """
        import unittest
        class Quay(unittest.TestCase):
            def test_x(self):
                self.fail('=HYPERLINK("http://127.0.0.1")')
        """,
    )
    folder.call("run")
    table = folder.call("report", "--as", "csv").out
    assert "HYPERLINK" in table
    assert not re.search(r'(?m)(^|,)"?[=+@-]', table)
