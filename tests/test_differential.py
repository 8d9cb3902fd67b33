"""The same commands sent directly to a driver and through Wolfbane get the same answers.

``SEQUENCES`` is how many sequences each engine gets: a few here, a thousand with
``make differential``.
"""

from __future__ import annotations

import asyncio
import base64
import json
import os
import re
import tempfile
from contextlib import asynccontextmanager
from pathlib import Path

import aiohttp
import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from browser_suites import needs
from wolfbane.browsers.broker import Broker
from wolfbane.browsers.browser_pool import BrowserPool
from wolfbane.browsers.endpoints import ELEMENT, SHADOW
from wolfbane.browsers.engines.programs import Programs
from wolfbane.browsers.engines.wanted import Wanted
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workspace.settings import Settings, Suite, Workspace

SEQUENCES = int(os.environ.get("SEQUENCES", "12"))
PAGE = """<!doctype html><title>Quay</title><h1 id=head>Saltmarsh</h1>
<input id=crew><input id=word type=password><textarea id=note>calm</textarea>
<select id=berth><option>A1<option>B2</select><input id=wet type=checkbox>
<button id=alarm onclick="alert('tide!')">Alarm</button>
<button id=ask onclick="this.title = confirm('cast off?')">Ask</button>
<button id=name onclick="this.title = prompt('boat?')">Name</button>
<a id=on href="data:text/html,<title>Out</title>out">Out</a>
<button id=log onclick="console.error('gauge')">Log</button>
<iframe id=chart srcdoc="<p id=depth>2 m</p>"></iframe>"""
URL = "data:text/html;base64," + base64.b64encode(PAGE.encode()).decode()
CSS = (
    "#crew",
    "#word",
    "#note",
    "#alarm",
    "#ask",
    "#name",
    "#on",
    "#log",
    "#wet",
    "#no",
    "#depth",
    "option",
)
PLAIN = (
    ("GET", "title"),
    ("GET", "url"),
    ("GET", "alert/text"),
    ("POST", "alert/accept"),
    ("POST", "alert/dismiss"),
    ("POST", "back"),
    ("POST", "forward"),
    ("POST", "refresh"),
    ("GET", "cookie"),
    ("GET", "source"),
    ("GET", "screenshot"),
    ("GET", "element/active"),
    ("GET", "timeouts"),
    ("GET", "window/handles"),
    ("POST", "frame/parent"),
    ("DELETE", "actions"),
    ("POST", "nothing"),
    ("GET", "se/log/types"),
)
SCRIPTS = (
    "return document.title",
    "return document.getElementById('crew').value",
    "alert('script')",
    "document.title = 'Changed'",
    "console.warn('neap')",
    "return [1, {a: null}, 'x']",
    "throw new Error('no')",
    "return document.querySelectorAll('*').length",
)
AS_NEW = """const [url, all] = arguments;
if (document.URL !== url) return null;
document.title = 'Quay';
document.activeElement.blur();
document.querySelectorAll('button').forEach(button => { button.title = ''; });
document.querySelectorAll('input').forEach(input => { input.value = ''; input.checked = false; });
document.querySelector('#note').value = 'calm';
document.querySelector('#berth').selectedIndex = 0;
return all.map(css => document.querySelector(css))"""
RESET = {"script": AS_NEW, "args": [URL, CSS]}
"""To load the page again takes ten times as long: only where a sequence has left it."""
MARK = re.compile(r' cd_frame_id_="\w+"')
"""Chromium's driver marks the frames that it has entered, at random."""
KEYS = [
    {
        "type": "key",
        "id": "k",
        "actions": [{"type": "keyDown", "value": "a"}, {"type": "keyUp", "value": "a"}],
    }
]
found = st.builds(
    lambda css: ("POST", "element", {"using": "css selector", "value": css}), st.sampled_from(CSS)
)
several = st.builds(
    lambda css: ("POST", "elements", {"using": "css selector", "value": css}), st.sampled_from(CSS)
)
about = st.builds(
    lambda css, what: ("GET", f"element/<{css}>/{what}", None),
    st.sampled_from(CSS),
    st.sampled_from(
        [
            "text",
            "name",
            "enabled",
            "selected",
            "attribute/id",
            "property/value",
            "css/display",
            "property/type",
        ]
    ),
)
typing = st.builds(
    lambda css, text: ("POST", f"element/<{css}>/value", {"text": text}),
    st.sampled_from(["#crew", "#word", "#note"]),
    st.sampled_from(["a", "sesame", "öl"]),
)
doing = st.builds(
    lambda css, what: ("POST", f"element/<{css}>/{what}", {}),
    st.sampled_from(CSS),
    st.sampled_from(["click", "click", "clear"]),
)
asking = st.sampled_from(["#alarm", "#ask", "#name"]).map(
    lambda css: ("POST", f"element/<{css}>/click", {})
)
plain = st.builds(lambda call: (*call, {} if call[0] == "POST" else None), st.sampled_from(PLAIN))
script = st.builds(
    lambda text: ("POST", "execute/sync", {"script": text, "args": []}), st.sampled_from(SCRIPTS)
)
others = st.sampled_from(
    [
        ("POST", "url", {"url": URL}),
        ("POST", "frame", {"id": 0}),
        ("POST", "frame", {"id": None}),
        ("POST", "actions", {"actions": KEYS}),
        ("POST", "alert/text", {"text": "Heron"}),
        ("POST", "se/log", {"type": "browser"}),
        ("POST", "se/log", {"type": "performance"}),
        ("JUDGE", "", None),
    ]
)
sequences = st.lists(
    st.one_of(found, several, about, doing, asking, typing, plain, script, others),
    min_size=4,
    max_size=9,
)


class Side:
    """One of the two: sends commands, and gives elements the numbers in which they came."""

    def __init__(self, send):
        self.send, self.elements, self.known = send, [], {}

    async def ask(self, method, path, body):
        for css in CSS:
            path = path.replace(f"<{css}>", self.known.get(css, "none"))
        reply = await self.send(method, path, b"" if body is None else json.dumps(body).encode())
        value = reply.value
        if reply.status >= 400:
            return reply.status, value["error"]
        if path == "element":
            self.known[body["value"]] = value[ELEMENT]
        if body is RESET and value:
            self.known = {css: each[ELEMENT] for css, each in zip(CSS, value) if each}
        if path == "source":
            return reply.status, MARK.sub("", value)
        if path in ("screenshot", "window/handles"):
            return reply.status, type(value)
        if path == "se/log":  # of other engines than Chromium it is no command
            return reply.status, [(each["level"], each["message"]) for each in value]
        return reply.status, self.numbered(value)

    def numbered(self, value):
        if isinstance(value, dict) and (ELEMENT in value or SHADOW in value):
            [name] = value.values()
            if name not in self.elements:
                self.elements.append(name)
            return f"element {self.elements.index(name)}"
        if isinstance(value, dict):
            return {key: self.numbered(inner) for key, inner in value.items()}
        return [self.numbered(inner) for inner in value] if isinstance(value, list) else value


class Pair:
    """A session that is spoken to directly, and one through Wolfbane with all evidence on."""

    def __init__(self, direct, session, endpoint):
        async def through(method, path, body):
            return await session.forward(method, path, body, endpoint.tests_of(session))

        self.endpoint = endpoint
        self.sides = Side(direct.command), Side(through)

    async def both(self, method, path, body):
        if method == "JUDGE":  # the test goes wrong, and another one uses the same session
            await self.endpoint.finish("a", bad=True)
            self.endpoint.started("a")
            return None, None
        return await asyncio.gather(*(side.ask(method, path, body) for side in self.sides))

    async def reset(self):
        for command in (
            ("POST", "alert/dismiss", {}),
            ("POST", "alert/dismiss", {}),
            ("POST", "frame", {"id": None}),
            ("DELETE", "actions", None),
            ("POST", "se/log", {"type": "browser"}),
        ):
            await self.both(*command)
        for side in self.sides:
            side.elements.clear()
        first, second = await self.both("POST", "execute/sync", RESET)
        assert first == second, "the state of the page"
        if not isinstance(first[1], list):
            await self.both("POST", "url", {"url": URL})
            await self.both("POST", "execute/sync", RESET)


@asynccontextmanager
async def pair(engine, folder):
    with ProcessGroup() as group:
        workspace = Workspace(folder, Settings(), None)
        broker = Broker(workspace, group, "failures", visible=False, tell=lambda command: None)
        await broker.open()
        suite = Suite("pages", "python", ["."], browsers=[engine], webdriver={"url": "URL"})
        endpoint, _ = broker.endpoint(suite, engine)
        endpoint.started("a")
        session = await endpoint.open({"capabilities": {}})
        with ProcessGroup() as others:
            async with aiohttp.ClientSession() as client:
                pool = BrowserPool(Programs(others), workspace, client, visible=False, listen=False)
                direct = await pool.take(engine, Wanted())
                try:
                    yield Pair(direct, session, endpoint)
                finally:
                    await direct.close()
                    await pool.close()
        await broker.close()


@pytest.mark.parametrize(
    "engine", [pytest.param(e, marks=needs(e)) for e in ("chromium", "webkit")]
)
def test_every_answer_is_the_same(engine):
    with asyncio.Runner() as runner, tempfile.TemporaryDirectory() as folder:
        context = pair(engine, Path(folder))
        two = runner.run(context.__aenter__())

        @settings(
            max_examples=SEQUENCES,
            derandomize=True,
            deadline=None,
            database=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        @given(sequences)
        def compare(commands):
            async def go():
                await two.reset()
                for command in commands:
                    first, second = await two.both(*command)
                    assert first == second, command

            runner.run(go())

        try:
            compare()
        finally:
            runner.run(context.__aexit__(None, None, None))
