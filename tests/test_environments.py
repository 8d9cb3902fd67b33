"""Parameters and environments: precedence, types, everything wrong at once, and secrets."""

from __future__ import annotations

import base64
import json
from pathlib import Path
from urllib.parse import quote, quote_plus

import pytest
from hypothesis import given as for_any
from hypothesis import strategies as st

from wolfbane.environments import Mask, resolve
from wolfbane.environments.convert import as_text, convert
from wolfbane.environments.sources import read_values, variable_line
from wolfbane.workspace.settings import Parameter, Settings, Workspace

SETTINGS = """
[[suite]]
name = "checks"
kind = "python"
paths = ["t"]
env = { WHERE = "{api.url}/v1", BRACES = "{{kept}}" }

[param.machine]
default = "quay1"
export = "QUAY_MACHINE"

[param.api.url]
type = "url"
required = true
help = "where the bookings are"
export = ["API_URL", "OTHER_URL"]

[param.api.token]
secret = true
required = true
export = "TOKEN"

[param.night]
type = "boolean"
default = false

[env.base]
api.url = "http://127.0.0.1:8000/{machine}"

[env.local]
extends = "base"
values_from = "local.env"
night = "yes"

[env.staging]
api = { url = "https://staging.example.test", token = { shell = "STAGING_TOKEN" } }
"""
SECRET = 'sp ring"tide/&7'


@pytest.fixture
def quay(folder):
    folder.file("wolfbane.toml", SETTINGS)
    folder.file("local.env", f"# what is not for everybody\nexport api.token='{SECRET}'\n")
    folder.file(
        "t/test_a.py",
        """
        import base64, json, os, unittest, urllib.parse
        class Where(unittest.TestCase):
            def test_where(self):
                names = ("WHERE", "BRACES", "QUAY_MACHINE", "API_URL", "OTHER_URL")
                print(json.dumps([os.environ[name] for name in names]))
            def test_leak(self):
                token = os.environ["TOKEN"]
                inside = base64.b64encode(b"user:" + token.encode() + b"@quay").decode()
                print(token, urllib.parse.quote(token), json.dumps(token), inside)
                with self.subTest(token):
                    self.fail(f"refused: {token}")
        """,
    )
    return folder


def where(run):
    return json.loads(run.results["t/test_a.py#Where / test_where"]["output"])


def test_suites_read_what_the_environment_says(quay):
    run = quay.run("--env", "local", "--name", "where", "--set", "machine=quay9")
    url = "http://127.0.0.1:8000/quay9"
    assert where(run) == [f"{url}/v1", "{kept}", "quay9", url, url]
    assert "local: machine=quay9" in run.out
    staging = quay.run("--env", "staging", "--name", "where", STAGING_TOKEN="spring")
    assert where(staging)[0] == "https://staging.example.test/v1"


def test_what_is_missing_is_named_before_anything_starts(quay):
    run = quay.run()
    assert run.code == 2 and not run.results
    assert "'api.url' has no value (where the bookings are)" in run.err
    assert "'api.token' has no value" in run.err
    assert "choose an environment with --env: base, local, staging" in run.err


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["--env", "locl"], "there is no environment 'locl'; did you mean local?"),
        (["--env", "local", "--set", "machin=x"], "no parameter 'machin'; did you mean machine?"),
        (["--env", "local", "--set", "machine"], "'machine': expected KEY=VALUE"),
        (["--env", "local", "--set", "night=perhaps"], "'night' (--set) is 'perhaps', not yes"),
        (["--env", "local", "--set", "api.url=quay"], "not a complete address"),
        (["--env", "local", "--set", "machine=@nowhere"], "cannot read the file"),
        (["--env", "staging"], "the environment variable STAGING_TOKEN, which is not set"),
    ],
)
def test_errors(quay, arguments, said):
    run = quay.run(*arguments)
    assert (run.code, said in run.err) == (2, True), run.err


@pytest.mark.parametrize(
    ("settings", "said"),
    [
        ('[param.a]\ntyp = "url"\n', "wolfbane.toml:2: unknown key 'typ'; did you mean type?"),
        ('[param.a.b]\ntype = "ur"\n', "wolfbane.toml:2: unknown type 'ur'; did you mean url?"),
        ('[param.a]\ntype = "choice"\n', "use 'choices' together with type = \"choice\""),
        ('[param.a]\nsecret = true\ndefault = "x"\n', "a secret cannot have a default"),
        ('[param.a]\ndefault = "{b}"\n', "contains {b}, which is not a parameter"),
        ('[param.a]\ndefault = "{b}"\n[param.b]\ndefault = "{a}"\n', "refers to itself"),
        ('[workspace]\nenv = "x"\n[env.x]\nextends = "y"\n', "there is no environment 'y'"),
        ('[workspace]\nenv = "x"\n[env.x]\nextends = "x"\n', "extends itself"),
        (
            '[workspace]\nenv = "x"\n[env.x]\nvalues_from = "no.json"\n',
            "no.json: cannot read the file",
        ),
        (
            "[env.x]\nextends = 5\n",
            "wolfbane.toml:2: 'extends' must be the name of one environment",
        ),
        ("[env.x]\nvalues_from = 5\n", "wolfbane.toml:2: 'values_from' must be a file"),
        ('[workspace]\nenv = "x"\n[env.x]\ntide = 1\n', "there is no parameter 'tide'"),
    ],
)
def test_settings_that_are_wrong(folder, settings, said):
    folder.file("wolfbane.toml", settings)
    run = folder.run()
    assert (run.code, said in run.err) == (2, True), run.err


def test_a_secret_inside_of_another_value_is_masked(quay):
    quay.file("wolfbane.toml", SETTINGS.replace("//127.0.0.1", "//me:{api.token}@127.0.0.1"))
    told = quay.run("--env", "local", "--name", "where").out + quay.call("env", "show", "local").out
    assert SECRET not in told and "//me:*****@127.0.0.1" in told


def test_the_commands_that_show(quay):
    listed = quay.call("env", "list").out
    assert "local    1 value, extends base, values from local.env" in listed
    assert "staging  2 values" in listed
    shown = quay.call("env", "show", "local").out
    assert "api.token  *****" in shown and SECRET not in shown and "local.env" in shown
    data = json.loads(quay.call("env", "show", "local", "--as", "json").out)
    assert {row["name"]: row["value"] for row in data}["night"] == "true"


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("v.json", '{"api": {"token": "t1"}}'),
        ("v.toml", '[api]\ntoken = "t1"\n'),
        ("v.yaml", "api:\n  token: t1\n"),
        ("v.env", "export api.token = t1 # comment\n"),
    ],
)
def test_values_come_from_files(quay, name, text):
    quay.file("wolfbane.toml", SETTINGS.replace("local.env", name))
    quay.file(name, text)
    quay.file(
        "t/test_a.py",
        "import os\ndef test_token(): assert os.environ['TOKEN'] == 't' + '1'\n",
    )
    assert quay.run("--env", "local").code == 0


def test_no_secret_in_anything_that_a_run_leaves(quay):
    run = quay.run("--env", "local", "-v", "--report", f"xunit={quay.path / 'out.xml'}")
    assert run.results["t/test_a.py#Where / test_leak"]["outcome"] == "failed"
    forms = [SECRET, quote(SECRET), quote_plus(SECRET), json.dumps(SECRET)[1:-1]]
    forms += [base64.b64encode(SECRET.encode()).decode(), SECRET.replace("&", "&amp;")]
    forms.append(base64.b64encode(b"user:" + SECRET.encode() + b"@quay").decode())
    left = [path for path in quay.path.rglob("*") if path.is_file() and path.name != "local.env"]
    told = [run.out, run.err, *(path.read_text(errors="replace") for path in left)]
    assert any("*****" in text for text in told)
    assert not [form for form in forms for text in told if form in text]


_texts = st.text(st.characters(codec="utf-8", exclude_categories=["C"]), min_size=6, max_size=20)


@for_any(_texts, st.binary(max_size=5), st.binary(max_size=5))
def test_every_form_of_a_secret_is_masked(secret, before, after):
    mask = Mask([secret])
    plain = (f"a{secret}b", quote(secret), quote(secret, safe=""), quote_plus(secret))
    for text in (*plain, json.dumps(secret), json.dumps(secret, ensure_ascii=False)):
        assert "*****" in mask(text)
    whole = base64.b64encode(before + secret.encode() + after).decode()
    assert "*****" in mask(whole)


@for_any(st.lists(st.sampled_from(["default", "base", "file", "own", "set"]), unique=True))
def test_the_later_source_wins(tmp_path_factory, sources):
    folder = tmp_path_factory.mktemp("quay")
    (folder / "v.json").write_text(json.dumps({"a": "file"} if "file" in sources else {}))
    settings = Settings(
        param={"a": Parameter(default="default" if "default" in sources else None)},
        env={
            "base": {"a": "base"} if "base" in sources else {},
            "x": {"extends": "base", "values_from": "v.json"}
            | ({"a": "own"} if "own" in sources else {}),
        },
    )
    values = resolve(
        Workspace(folder, settings, None), "x", ["a=set"] if "set" in sources else []
    ).values
    order = [source for source in ("default", "base", "file", "own", "set") if source in sources]
    assert [value.text for value in values.values()] == order[-1:]


@pytest.mark.parametrize(
    ("kind", "values"),
    [
        ("text", st.text()),
        ("integer", st.integers(-(10**12), 10**12)),
        ("number", st.integers(-(10**9), 10**9).map(lambda n: n / 1000)),
        ("boolean", st.booleans()),
        ("list", st.lists(st.from_regex(r"[a-z0-9]+", fullmatch=True))),
    ],
)
def test_what_suites_are_given_reads_back_the_same(kind, values):
    parameter = Parameter(type=kind)

    @for_any(values)
    def there_and_back(value):
        typed = convert(parameter, value, Path("/"))
        assert convert(parameter, as_text(typed), Path("/")) == typed == value

    there_and_back()


@for_any(st.text())
def test_any_text_has_a_type_or_is_refused(text):
    for kind in ("integer", "number", "boolean", "duration", "url", "choice"):
        try:
            convert(Parameter(type=kind, choices=["a"]), text, Path("/"))
        except ValueError as error:
            assert str(error)


# Between quotes no backslash may stand at the end: there is no spelling for it.
_any_value = st.text("ab1 #'\"\\\n=$\u00fc", max_size=8).filter(lambda v: v[-1:] != "\\")


@for_any(st.dictionaries(st.from_regex("[A-Z][A-Z0-9_]{0,5}", fullmatch=True), _any_value))
def test_a_file_of_variables_that_is_written_reads_back_the_same(tmp_path_factory, values):
    file = tmp_path_factory.mktemp("values") / "quay.env"
    file.write_text("".join(variable_line(n, v) for n, v in values.items()), encoding="utf-8")
    assert read_values(file) == values


def test_variables_with_quotes_comments_and_several_lines(tmp_path):
    file = tmp_path / "quay.env"
    file.write_text(
        "# the quay\nexport A='one # two'  # a comment\nB=three # four\n"
        'C="first\nsecond" # both\nD="say \\"so\\""\nE=\n'
    )
    assert read_values(file) == {
        "A": "one # two",
        "B": "three",
        "C": "first\nsecond",
        "D": 'say "so"',
        "E": "",
    }
    file.write_text("A=1\nno name\n")
    with pytest.raises(ValueError, match="line 2: expected NAME=value"):
        read_values(file)
