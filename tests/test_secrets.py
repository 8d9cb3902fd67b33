"""No secret is shown or written: whole, in another form, in part, or handed out by a server."""

from __future__ import annotations

import base64
import html
import json
import os
import random
import re
import subprocess
import textwrap
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import present
from quay_api import DESCRIPTION, SETTINGS, flows, operation, quay, run, server, step
from wolfbane.environments import Mask

__all__ = ["quay", "server"]  # fixtures
SECRET = "heron'at & low=tide/over the bar ü 4711"
PARTS = [SECRET[:10], SECRET[-10:]]
SUITE = f"""
import os, sys, unittest
TOKEN = os.environ["TOKEN"]
class Quay(unittest.TestCase):
    def test_shortened(self):
        self.assertEqual("x" * 300 + TOKEN[:5], "x" * 300 + TOKEN + "y" * 300)
    def test_found(self):
        self.assertIn("tide", [TOKEN] * 20)
    def test_flood(self):
        print("." * (524_288 - 17) + TOKEN, end="")
        print("." * 900_000)
        self.fail()
    def test_message(self):
        raise ValueError(TOKEN[:20] + "...")
    def test_forms(self):
        import json
        print(repr(TOKEN), repr(TOKEN.encode()), json.dumps(json.dumps(TOKEN)))
        print(TOKEN.encode().hex())
    def test_lines(self):
        assert TOKEN == "{"z" * 90}"
"""
WORKSPACE = """
[[suite]]
name = "unit"
kind = "python"
paths = ["tests"]
[param.token]
secret = true
export = "TOKEN"
[env.local]
token = { file = "token.txt" }
[workspace]
env = "local"
"""


def left_behind(folder, run):
    """Everything that is shown or written, but for the secret's own file."""
    files = [path for path in folder.path.rglob("*") if path.is_file()]
    texts = [p.read_text(errors="replace") for p in files if p.name not in ("token.txt", "source")]
    return [run.out, run.err, *texts]


def test_parts_that_shortening_leaves_are_masked(folder):
    folder.file("token.txt", SECRET)
    folder.file("tests/test_quay.py", SUITE)
    folder.file("wolfbane.toml", WORKSPACE)
    reports = [f"--report={form}=out.{form}" for form in ("html", "xunit", "ctrf", "markdown")]
    done = folder.run("-v", *reports)
    assert set(done.outcomes.values()) == {"failed", "errored", "passed"}, done.out
    texts = left_behind(folder, done)
    for part in PARTS:
        forms = {part, html.escape(part), quote(part), json.dumps(part)[1:-1], part.encode().hex()}
        assert not [form for form in forms for text in texts if form in text], part
    assert sum("*****" in text for text in texts) > len(reports)


_texts = st.text(st.characters(codec="utf-8", exclude_categories=["C"]), min_size=10, max_size=30)
_FORMS = {
    "repr": repr,
    "bytes": lambda text: repr(text.encode()),
    "twice": lambda text: json.dumps(json.dumps(text)),
    "lower": lambda text: re.sub("%[0-9A-F]{2}", lambda m: m[0].lower(), quote(text, safe="")),
    "component": lambda text: quote(text, safe="!~*'()"),
    "html": html.escape,
    "hex": lambda text: text.encode().hex(),
    "slashes": lambda text: json.dumps(text).replace("/", "\\/"),
    "markup": lambda text: re.sub("[&<>+']", lambda m: f"\\u{ord(m[0]):04x}", json.dumps(text)),
    "percent of percent": lambda text: quote(quote(text)),
    "json in html": lambda text: html.escape(json.dumps(text)),
    "html in json": lambda text: json.dumps(html.escape(text)),
    "sql": lambda text: text.replace("'", "''"),
    "csv": lambda text: text.replace('"', '""'),
    "coloured": lambda text: f"{text[:4]}\x1b[1;31m{text[4:7]}\x1b[0m{text[7:]}",
    "wrapped": lambda text: f"{text[:5]}\n        {text[5:]}",
    "wrapped base64": lambda text: "\r\n".join(
        re.findall(".{1,8}", base64.b64encode(f"skipper:{text}".encode()).decode())
    ),
}


@pytest.mark.parametrize("form", _FORMS)
@given(secret=_texts)
def test_further_forms_are_masked(form, secret):
    shown = Mask([secret])(f"<{_FORMS[form](secret)}>")
    assert "*****" in shown


@given(st.text(st.characters(codec="ascii", exclude_categories=["C"]), min_size=10))
def test_other_case_is_masked(secret):
    assert "*****" in Mask([secret])(f"<{secret.swapcase()}>")


_SHELL = 'export x="$1"; set -x; : "$x"; { set +x; } 2>/dev/null'
_NODE = """
const escapes = [encodeURI, encodeURIComponent, escape, JSON.stringify,
  text => require('util').inspect(text), text => new URLSearchParams({text}).toString()];
for (const escaped of escapes) console.log(escaped(process.argv[1]));
"""
_TOOLS = {
    "node": ("-e", _NODE),
    "bash": ("-c", f'{_SHELL}; printf "%q\\n" "$x"; declare -p x', "-"),
    "zsh": ("-c", f'{_SHELL}; printf "%q\\n" "$x"; typeset x', "-"),
    "dash": ("-c", f"{_SHELL}; export -p", "-"),
    "perl": ("-MData::Dumper", "-e", "print Dumper($ARGV[0])"),
}


@pytest.mark.parametrize("tool", _TOOLS)
def test_what_other_programs_write_is_masked(tool):
    if not present(tool):
        pytest.skip(f"{tool} is not here")
    rng = random.Random(4711)
    characters = "abcxyzABC0189 +/=&<>'\"\\$`!*()[]{}%#;:,.?-_~^|@üé€"
    for _ in range(25):
        secret = "heron" + "".join(rng.choices(characters, k=12)) + "tide7"
        done = subprocess.run(
            [tool, *_TOOLS[tool], secret],
            env={"PATH": os.environ["PATH"], "LC_ALL": "C.UTF-8"},
            capture_output=True,
            text=True,
            check=True,
        )
        written = done.stdout + done.stderr
        assert "heron" in written and "tide7" in written
        shown = Mask([secret])(written)
        assert "heron" not in shown and "tide7" not in shown, (secret, written, shown)


@given(_texts, st.data())
def test_what_a_cut_leaves_is_masked(secret, data):
    length = data.draw(st.integers(8, len(secret) - 1))
    mask = Mask([secret])
    for text in (
        f"is {secret[:length]}...",
        f"is '{secret[:length]}",
        f"'{secret[:length]}'[9 chars]",
    ):
        assert secret[:length] not in mask(text), text
    for text in (
        f"...{secret[-length:]} is",
        f"{secret[-length:]} is",
        f"[9 chars]{secret[-length:]}",
    ):
        assert secret[-length:] not in mask(text), text


FORMS = """
import json, sys
for line in sys.stdin:
    secret = json.loads(line)
    print(json.dumps(secret[::-1]))
    print()
"""


def test_a_team_masks_forms_of_its_own(folder):
    folder.file("token.txt", "tide & time/4711")
    folder.file("forms.py", FORMS)
    folder.file(
        "tests/test_quay.py",
        """
        import os, unittest
        class Quay(unittest.TestCase):
            def test_prints(self):
                print("backwards", os.environ["TOKEN"][::-1])
                print("berth=tok_4711abc; name=heron")
                print("key: 99-heron-99")
                self.fail(os.environ["TOKEN"][::-1])
        """,
    )
    mask = """
        [mask]
        patterns = ["tok_[0-9a-z]+", 'key: (?P<secret>\\S+)']
        forms = ["python3", "forms.py"]
        """
    folder.file("wolfbane.toml", WORKSPACE + textwrap.dedent(mask))
    run = folder.run()
    [result] = run.results.values()
    assert result["output"] == "backwards *****\nberth=*****; name=heron\nkey: *****\n"
    assert "*****" in result["message"]
    for text in left_behind(folder, run):
        if "import os, unittest" not in text:
            assert "1174/emit" not in text and "99-heron" not in text


@pytest.mark.parametrize("binary", [True, False])
def test_a_run_warns_of_files_that_it_cannot_mask(folder, binary):
    content = b"\x89PNG heron" if binary else "the berth of the heron"
    folder.file("token.txt", "tide & time/4711")
    folder.file("rules/quay.feature", "Feature: q\n  Scenario: s\n    Given a picture\n")
    folder.file(
        "rules/steps/quay.py",
        f"""
        from wolfbane.steps import attach, step
        @step("a picture")
        def picture():
            attach({content!r}, "berth.png" if {binary} else "berth.txt")
        """,
    )
    settings = WORKSPACE.replace('"python"', '"scenario"').replace('["tests"]', '["rules"]')
    folder.file("wolfbane.toml", settings)
    run = folder.run()
    assert set(run.outcomes.values()) == {"passed"}, run.out
    assert ("binary files are not masked: they may show secrets" in run.text) == binary


@pytest.mark.parametrize(
    ("mask", "message"),
    [
        ('patterns = ["("]', "'(' is not a regular expression"),
        ('patterns = ["x*"]', "'x*' also matches an empty text; it must not"),
        ('forms = ["python3", "-c", "raise SystemExit(3)"]', "it ended with exit code 3"),
        ('forms = ["echo", "no JSON"]', "it must print JSON strings, one per line"),
        ('forms = ["no-such-program"]', "No such file or directory"),
    ],
)
def test_a_mask_that_does_not_work_is_refused(folder, mask, message):
    folder.file("token.txt", "tide & time/4711")
    folder.file("tests/test_quay.py", "def test_quay():\n    pass\n")
    folder.file("wolfbane.toml", f"{WORKSPACE}[mask]\n{mask}\n")
    run = folder.call("run")
    assert (run.code, message in run.err) == (2, True), run.err
    assert "4711" not in run.err


def test_archives_cut_no_secret_in_two(quay):
    for missing in range(8, 30):  # wherever the cut falls in it
        pad = "x" * ((1 << 16) - len('{"pad": "", "given": "') - missing)
        body = {
            "contentType": "application/json",
            "payload": {"pad": pad, "given": "{$inputs.token}"},
        }
        flows(
            quay,
            {
                "workflowId": f"w{missing}",
                "inputs": {"type": "object", "properties": {"token": {}}},
                "steps": [
                    step(
                        "talk",
                        "echo",
                        requestBody=body,
                        parameters=[{"name": "id", "in": "path", "value": "x"}],
                    )
                ],
            },
            name=f"cut{missing}",
        )
    secret = "a-berth-for-the-grey-heron-4711"
    quay.file("token.txt", secret)
    done = run(quay, "--report", "json=out.json")
    archives = [path.read_text() for path in quay.path.glob(".wolfbane/runs/*/evidence/*.har")]
    assert len(archives) == 22, done.out + done.err
    pieces = [secret[:8], secret[-8:]]
    assert not [text[-300:] for text in archives for piece in pieces if piece in text]
    assert sum("*****" in text for text in archives) == 22


def test_words_that_are_no_secret_stay():
    mask = Mask(["password-of-the-harbour"])
    assert mask("the password of the gate") == "the password of the gate"
    assert mask("password-of the gate") == "password-of the gate"


def test_a_refusal_hands_out_no_token(quay):
    from quay_api import Desk

    Desk.do_refuse = lambda self, path: self.answer(401, {"access_token": "expired today"})
    description = json.loads(json.dumps(DESCRIPTION))
    description["paths"]["/refuse"] = {"get": operation("refuse", {"401": {"description": "no"}})}
    quay.file("openapi.json", json.dumps(description))
    flows(quay, {"workflowId": "w", "steps": [step("in", "refuse", "$statusCode == 200")]})
    assert "expired today" in run(quay).out


GRANTED = "granted-at-high-tide"


def test_tokens_that_an_answer_hands_out_are_masked_from_then_on(quay):
    from quay_api import Desk

    Desk.do_login = lambda self, path: self.answer(
        200,
        {"accessToken": GRANTED, "nested": [{"berthKey": "berth-key-77"}]},
        Set_Cookie="session=cookie-of-the-day; Path=/",
    )
    description = json.loads(json.dumps(DESCRIPTION))
    description["paths"]["/login"] = {"get": operation("login")}
    schemes = description["components"]["securitySchemes"]
    schemes["cookie"] = {"type": "apiKey", "in": "cookie", "name": "session"}
    quay.file("openapi.json", json.dumps(description))
    settings = SETTINGS.replace("redirects = 3", 'redirects = 3\nsecret_fields = ["berth_key"]')
    quay.file("wolfbane.toml", settings)
    login = step("in", "login", outputs={"token": "$response.body#/accessToken"})
    flows(
        quay,
        {"workflowId": "login", "steps": [login], "outputs": {"token": "$steps.in.outputs.token"}},
        {
            "workflowId": "use",
            "dependsOn": ["login"],
            "steps": [
                step(
                    "talk",
                    "echo",
                    "$response.body == 'no'",
                    requestBody={
                        "contentType": "application/json",
                        "payload": {"given": "$workflows.login.outputs.token"},
                    },
                    parameters=[{"name": "id", "in": "path", "value": "x"}],
                ),
            ],
        },
    )
    done = run(quay, "-v", "--report", "html=out.html")
    assert done.outcomes["flows/a.arazzo.yaml#login"] == "passed", done.out
    texts = left_behind(quay, done)
    assert any('"given' in text for text in texts)
    for secret in (GRANTED, "berth-key-77", "cookie-of-the-day"):
        assert not [text for text in texts if secret in text], secret


@pytest.mark.parametrize(("elsewhere", "sent"), [(True, None), (False, "heron-at-low-tide")])
def test_a_key_in_a_header_stays_with_its_host(quay, elsewhere, sent):
    from quay_api import Desk

    def lead(self, path):
        host = "localhost" if elsewhere else "127.0.0.1"
        self.answer(302, {}, Location=f"http://{host}:{self.server.server_port}/text")

    Desk.do_lead = lead
    description = json.loads(json.dumps(DESCRIPTION))
    description["paths"]["/lead"] = {"get": {**operation("lead"), "security": [{"key": []}]}}
    description["components"]["securitySchemes"]["key"] = {
        "type": "apiKey",
        "in": "header",
        "name": "X-Key",
    }
    quay.file("openapi.json", json.dumps(description))
    flows(quay, {"workflowId": "w", "steps": [step("s", "lead")]})
    run(quay)
    first, second = (request["headers"].get("X-Key") for request in quay.server.seen)
    assert (first, second) == ("heron-at-low-tide", sent)
