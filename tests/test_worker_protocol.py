"""Every worker speaks the protocol: hello, collect, run of some, order, parts, and its end."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import jsonschema
import pytest

from conftest import present, schema_facts
from wolfbane.workers.channel import read_message
from wolfbane.workers.protocol import ProgressMessage, schema

HOME = Path(__file__).parent.parent
KINDS = HOME / "src" / "wolfbane" / "kinds"
SCHEMA = json.loads((HOME / "docs" / "worker-protocol.schema.json").read_text())
VALIDATOR = jsonschema.Draft202012Validator(SCHEMA)


@dataclass(frozen=True)
class Spoken:
    """A worker, a file for it, and what its tests are called and come to."""

    command: list[str]
    path: str
    source: str
    outcomes: dict[str, str]
    parted: str | None
    printing: str
    deadly: str
    options: dict[str, object]
    alone: bool = False
    """Whether each request wants a worker of its own."""
    besides: tuple[tuple[str, str], ...] = ()
    """Other files that it needs, and what they hold."""


PYTHON = Spoken(
    [sys.executable, str(KINDS / "worker" / "start.py"), "wolfbane.kinds.python.worker.runner"],
    "test_tide.py",
    """import os, unittest
class Tide(unittest.TestCase):
    def test_deadly(self): os._exit(3)
    def test_high(self):
        for n in (1, 2):
            with self.subTest(n=n): pass
    def test_low(self):
        print("low water")
        self.fail("aground")
""",
    {"Tide / test_high": "passed", "Tide / test_low": "failed"},
    "Tide / test_high",
    "Tide / test_low",
    "Tide / test_deadly",
    {},
)
DOCTEST = Spoken(
    [*PYTHON.command[:-1], "wolfbane.kinds.doctest.worker.runner"],
    "tide.py",
    '''import os
def deadly():
    """
    >>> os._exit(3)
    """
def high():
    """
    >>> 1 + 1
    2
    >>> 2 + 2
    4
    """
def low():
    """
    >>> import sys
    >>> _ = sys.__stdout__.write("low water")
    >>> 1 + 1
    3
    """
''',
    {"high": "passed", "low": "failed"},
    "high",
    "low",
    "deadly",
    {},
)
TAP = Spoken(
    [sys.executable, "-m", "wolfbane.kinds.tap.runner"],
    "tide.t",
    "#!/bin/sh\necho 1..2\necho ok 1 - high\necho not ok 2 - low water\n",
    {"": "failed"},
    "",
    "",
    "",
    {"interpreters": {}, "defaults": {}, "perl_path": []},
)
NODE = Spoken(
    [
        "node",
        f"--test-reporter={KINDS / 'node' / 'worker' / 'reporter.cjs'}",
        "--test-reporter-destination=stdout",
        str(KINDS / "node" / "worker" / "main.cjs"),
    ],
    "tide.test.mjs",
    """import { test } from 'node:test';
test('deadly', () => process.kill(process.pid, 'SIGKILL'));
test('high', () => {});
test('low', () => { console.log('low water'); throw new Error('aground'); });
""",
    {"high": "passed", "low": "errored"},
    None,
    "low",
    "deadly",
    {"options": [], "bare_words": False},
    alone=True,
)
SCENARIO = Spoken(
    [*PYTHON.command[:-1], "wolfbane.kinds.scenario.worker.runner"],
    "tide.feature",
    """Feature: tide
  Scenario: high
    Given water
    And water
  Scenario: low
    Given low water
  Scenario: deadly
    Given death
""",
    {"high": "passed", "low": "failed"},
    "high",
    "low",
    "deadly",
    {"import_path": [], "steps": ["steps"]},
    besides=(
        (
            "steps/water.py",
            """
import os
from wolfbane.steps import given
given("water")(lambda: None)
given("death")(lambda: os._exit(3))
@given("low water")
def low():
    print("low water")
    assert False
""",
        ),
    ),
)
CARGO = Spoken(
    [sys.executable, "-m", "wolfbane.kinds.cargo.runner"],
    "src/lib.rs",
    """#[test] fn high() {}
#[test] fn low() { println!("low water"); panic!("aground") }
""",
    {"high": "passed", "low": "failed"},
    None,
    "low",
    "",
    {
        "cargo": "cargo",
        "manifest": "Cargo.toml",
        "options": [],
        "ignored": "skip",
        "suite": "tide",
        "no_build": False,
        "results": ".wolfbane",
    },
    besides=(("Cargo.toml", '[package]\nname = "tide"\nversion = "0.1.0"\n'),),
)
_HTTP = {
    "base_url": "http://127.0.0.1:1",
    "security": {},
    "verify": True,
    "certificate": "",
    "key": "",
    "proxy": "",
    "connect": 5,
    "read": 5,
    "redirects": 1,
    "contract": [],
    "copies": "copies",
    "secret_fields": [],
    "headers": {},
    "body_limit": 1000,
}
_STEP = {"stepId": "s", "operationId": "look"}
WORKFLOW = Spoken(
    [sys.executable, "-m", "wolfbane.kinds.workflow.runner"],
    "a.arazzo.json",
    json.dumps(
        {
            "arazzo": "1.0.1",
            "info": {"title": "t", "version": "1"},
            "sourceDescriptions": [{"name": "quay", "url": "openapi.json"}],
            "workflows": [
                {"workflowId": "high", "steps": [_STEP]},
                {"workflowId": "low", "steps": [_STEP]},
            ],
        }
    ),
    {"high": "errored", "low": "errored"},
    None,
    "",
    "",
    {"http": _HTTP, "values": {}},
    besides=(
        (
            "openapi.json",
            json.dumps(
                {
                    "openapi": "3.1.0",
                    "info": {"title": "t", "version": "1"},
                    "paths": {
                        "/": {
                            "get": {
                                "operationId": "look",
                                "responses": {"200": {"description": "it"}},
                            }
                        }
                    },
                }
            ),
        ),
    ),
)
EXAMPLE = Spoken(
    ["perl", str(HOME / "examples" / "worker.pl")],
    "tide.checks",
    "high: 1 + 1 == 2; 2 + 2 == 4\nlow: print 'low water'; 1 == 2\ndeadly: kill 9, $$\n",
    {"high": "passed", "low": "failed"},
    "high",
    "low",
    "deadly",
    {},
)
SPOKEN = {
    "python": PYTHON,
    "doctest": DOCTEST,
    "tap": TAP,
    "node": NODE,
    "cargo": CARGO,
    "scenario": SCENARIO,
    "workflow": WORKFLOW,
    "example": EXAMPLE,
}


class Talk:
    """Wolfbane's side of one worker's channel, bare."""

    def __init__(self, spoken: Spoken, root: Path) -> None:
        self.spoken, self.root, self.tests = spoken, root, []
        self.connect()

    def connect(self) -> None:
        spoken, root = self.spoken, self.root
        self.server = socket.create_server(("127.0.0.1", 0))
        self.server.settimeout(20)
        port = self.server.getsockname()[1]
        self.printed = root / "printed"
        self.process = subprocess.Popen(
            spoken.command,
            cwd=root,
            env={
                "PATH": os.environ["PATH"],
                "HOME": os.environ["HOME"],
                "WOLFBANE_CHANNEL": f"127.0.0.1:{port}",
                "WOLFBANE_TOKEN": "once",
            },
            stdout=self.printed.open("ab"),
            stderr=subprocess.STDOUT,
        )
        self.connection, _ = self.server.accept()
        self.connection.settimeout(20)
        self.lines = self.connection.makefile("r", encoding="utf-8")
        (hello,) = self.hear("hello")
        assert (hello["token"], hello["protocol"]) == ("once", 1)
        self.say(type="options", root=str(root), capture=str(self.printed), **spoken.options)

    def ask(self, **request) -> None:
        """Send a request, to a new worker where each wants one."""
        if self.spoken.alone and self.tests:
            self.close()
            self.connect()
        self.say(**request)

    def say(self, **message) -> None:
        self.connection.sendall(json.dumps(message).encode() + b"\n")

    def hear(self, until: str) -> list[dict]:
        """Messages up to the one of type ``until``, or to the end; each fits the schema."""
        heard = []
        for line in self.lines:
            message = json.loads(line)
            VALIDATOR.validate(message)
            heard.append(message)
            if message["type"] == until:
                break
        return heard

    def close(self) -> None:
        self.lines.close()
        self.connection.close()
        self.server.close()
        self.process.kill()
        self.process.wait()


def test_the_schema_is_made_from_the_types():
    assert schema_facts(schema()) == schema_facts(SCHEMA), "run docs/schemas.py"


@pytest.mark.parametrize(
    ("line", "message"),
    [
        ('{"type": "finished", "address": "a", "outcome": "pased"}', "Invalid enum value 'pased'"),
        ('{"type": "started"}', "missing required field `address`"),
        ('{"type": "evidence", "address": "a", "kind": "txt"}', "either 'text' or 'data'"),
        ('{"type": "sung"}', "Invalid value 'sung'"),
        ("[]", "Expected `object`"),
        ("low water", "malformed"),
    ],
)
def test_what_is_wrong_with_a_message(line, message):
    with pytest.raises(ValueError, match=message):
        read_message(line.encode())


def test_half_a_character_becomes_a_visible_escape():
    message = read_message(b'{"type": "progress", "text": "\\ud800"}')
    assert message == ProgressMessage(text="\\ud800")


@pytest.fixture(params=SPOKEN)
def talk(request, tmp_path):
    spoken = SPOKEN[request.param]
    if not present(str(spoken.options.get("cargo", spoken.command[0]))):
        pytest.skip(f"no {spoken.command[0]} here")
    folder = tmp_path / spoken.path
    folder.parent.mkdir(exist_ok=True)
    folder.write_text(spoken.source)
    for name, text in spoken.besides:
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text(text)
    folder.chmod(0o755)
    talk = Talk(spoken, tmp_path)
    talk.ask(type="collect", files=[spoken.path])
    *told, last = talk.hear("collected")
    assert last["file"] == spoken.path and "outcome" not in last
    tests = [*(message for message in told if message["type"] == "test"), *last.get("tests", ())]
    talk.tests = [test["address"] for test in tests]
    yield talk
    talk.close()


def address(spoken, name):
    return f"{spoken.path}#{name}" if name else spoken.path


def test_collected_addresses(talk):
    names = {*talk.spoken.outcomes, *filter(None, [talk.spoken.deadly])}
    assert sorted(talk.tests) == sorted(address(talk.spoken, name) for name in names)


def test_a_run_of_some(talk):
    spoken = talk.spoken
    names = list(spoken.outcomes)
    talk.ask(type="run", file=spoken.path, names=names, limit=60)
    heard = talk.hear("ran")
    steps = [(m["type"], m["address"]) for m in heard if m["type"] in ("started", "finished")]
    expected = [(step, address(spoken, name)) for name in names for step in ("started", "finished")]
    assert steps == expected
    finished = {m["address"]: m for m in heard if m["type"] == "finished"}
    assert {a: m["outcome"] for a, m in finished.items()} == {
        address(spoken, name): outcome for name, outcome in spoken.outcomes.items()
    }
    if spoken.parted is not None:
        parted = address(spoken, spoken.parted)
        told = [m for m in heard if m["type"] in ("parts", "finished")]
        assert len([p for m in told if m["address"] == parted for p in m["parts"]]) == 2
    if spoken is WORKFLOW:
        assert {m["address"] for m in heard if m["type"] == "evidence"} == set(finished)
        return
    printed = [
        m["text"]
        for m in heard
        if m["type"] == "output" and m["address"] == address(spoken, spoken.printing)
    ]
    assert "low water" in "".join(printed)


def test_one_after_the_other(talk):
    for name in reversed(list(talk.spoken.outcomes)):
        talk.ask(type="run", file=talk.spoken.path, names=[name], limit=60)
        heard = talk.hear("ran")
        assert [m["address"] for m in heard if m["type"] == "finished"] == [
            address(talk.spoken, name)
        ]


def test_a_crash_comes_after_started(talk):
    if not talk.spoken.deadly:
        pytest.skip("its tests are processes of their own")
    talk.ask(type="run", file=talk.spoken.path, names=[talk.spoken.deadly], limit=60)
    assert [m["type"] for m in talk.hear("ran")] == ["started"]
    assert talk.process.wait(20) != 0


def test_closing_hooks_are_a_request(talk):
    if talk.spoken is not SCENARIO:
        pytest.skip("it has no hooks of its own")
    talk.ask(type="close")
    assert [m["type"] for m in talk.hear("closed")] == ["closed"]


def test_it_ends_with_the_channel(talk):
    talk.connection.shutdown(socket.SHUT_RDWR)
    assert talk.process.wait(20) == 0
