"""What a suite types into a password field is in none of its results."""

from __future__ import annotations

from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

from browser_suites import ENGINES, needs, pages, suite
from wolfbane.browsers.password_fields import TypedSecrets, typed_keys

__all__ = ["pages", "suite"]  # fixtures

SECRET = "Spr1ng tide/&42"
OF_KEYS = "n3ap-tide-77"
SPREAD = """
const field = document.getElementById('word');
field.type = 'text';
const text = field.value, coded = encodeURIComponent(text);
console.log('logged in with ' + text);
console.error(JSON.stringify({text}));
document.title = text;
document.getElementById('berth-list').textContent = text;
document.getElementById('berth-list').dataset.text = text;
history.pushState({}, '', '/quay?word=' + coded + '#' + coded);
return fetch('/find?word=' + coded).then(() => text);
"""


@pytest.mark.parametrize("engine", [pytest.param(e, marks=needs(e)) for e in ENGINES])
def test_a_typed_password_is_a_secret_of_its_test(suite, engine):
    folder = suite(
        f"""
def test_logs_in(self):
    browser = Browser()
    browser.open("quay")
    field = browser.find("#word")
    browser("POST", f"/element/{{field}}/value", text={SECRET!r})
    read = browser("GET", f"/element/{{field}}/property/value")
    self.assertEqual(read, {SECRET!r})
    self.assertEqual(browser.run("return document.getElementById('word').value"), read)
    self.assertEqual(browser.run({SPREAD!r}), read)
    browser("GET", f"/element/{{field}}/attribute/value")
    print("logged in with", read)
    browser("GET", "/url")
    browser("GET", "/source")
    browser("GET", f"/element/{{browser.find('#berth-list')}}/text")
    browser("GET", "/title")
    browser.run("setTimeout(() => alert(document.title), 1)")
    end = time.monotonic() + 20
    while time.monotonic() < end:
        try:
            browser("GET", "/alert/text")
            break
        except Failed:
            time.sleep(0.02)
    self.assertEqual(read, "another word")

def test_keys(self):
    browser = Browser()
    browser.open("quay")
    for key in [*"\\ue004", *{OF_KEYS!r}]:  # the tab key moves to the field
        keys = [dict(type="keyDown", value=key), dict(type="keyUp", value=key)]
        browser("POST", "/actions", actions=[dict(type="key", id="keys", actions=keys)])
    read = browser.run("return document.getElementById('word').value")
    self.assertEqual(read, {OF_KEYS!r})
    browser("POST", "/url", url=os.environ["PAGES"].replace("//", f"//skipper:{{read}}@"))
    self.assertEqual(read, "another word")

def test_of_another_session(self):
    self.fail("no password here: {OF_KEYS[:-1]}, {SECRET[:-1]}!")
""",
        browsers=(engine,),
    )
    run = folder.run("--jobs", "1", "--evidence", "all")
    assert set(run.outcomes.values()) == {"failed"}, run.out
    by_name = {address.rpartition("/ ")[2]: result for address, result in run.results.items()}
    message = {name.partition(" ")[0]: result["message"] for name, result in by_name.items()}
    assert "'*****' != 'another word'" in message["test_logs_in"]
    assert "'*****' != 'another word'" in message["test_keys"]
    assert f"{OF_KEYS[:-1]}, {SECRET[:-1]}!" in message["test_of_another_session"]
    forms = [SECRET, quote(SECRET, safe=""), SECRET.replace("&", "&amp;"), OF_KEYS]
    files = [path for path in folder.path.glob(".wolfbane/**/*") if path.is_file()]
    assert len(files) > 10
    told = {path: path.read_bytes() for path in files}
    told[folder.path] = run.out.encode()
    results = {
        path.name: form for form in forms for path, text in told.items() if form.encode() in text
    }
    assert results == {}


@needs("chromium")
def test_a_session_that_is_over_keeps_its_secrets(suite):
    folder = suite(f"""
def test_logs_in(self):
    browser = Browser()
    browser.open("quay")
    browser("POST", f"/element/{{browser.find('#word')}}/value", text={SECRET!r})
    browser("DELETE")
    self.fail("the password was " + {SECRET!r})
""")
    for policy in ("failures", "off"):
        [result] = folder.run("--evidence", policy).results.values()
        assert result["message"] == "the password was *****"


KEYS = st.text("ab c\ue003\ue007", max_size=12)


@given(KEYS)
def test_keys_that_come_alone_are_learnt_like_keys_that_come_together(keys):
    together, alone = TypedSecrets(), TypedSecrets()
    together.type("field", keys)
    for key in keys:
        alone.type("field", key)
    assert together.texts == alone.texts
    pressed = [{"type": "keyDown", "value": key} for key in keys]
    assert typed_keys({"actions": [{"type": "key", "actions": pressed}]}) == keys
