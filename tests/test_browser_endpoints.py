"""Every endpoint of W3C WebDriver through the broker, by a client of the standard library."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest

from browser_suites import ENGINES, needs
from wolfbane.browsers.endpoints import ENDPOINTS, find

HERE = Path(__file__).parent
DOCUMENT = HERE.parent / "docs" / "browsers.md"
ROW = re.compile(r"\| (GET|POST|DELETE) `([^`]*)` \| ([^|]+) \|([^|]+)\|([^|]+)\|([^|]+)\|")
SETTINGS = """
    [[suite]]
    name = "endpoints"
    kind = "python"
    paths = ["suite"]
    browsers = ["chromium", "firefox", "webkit"]
    webdriver = {{ url = "ENDPOINT", browser = "BROWSER_NAME" }}
    env = {{ TOLD = "{folder}/" }}
"""


def documented() -> dict[tuple[str, str], dict[str, str]]:
    """The rows of the table: what each engine makes of each endpoint."""
    rows = ROW.findall(DOCUMENT.read_text(encoding="utf-8"))
    return {
        (method, path): {engine: state.strip() for engine, state in zip(ENGINES, states)}
        for method, path, _, *states in rows
    }


def test_the_table_has_a_row_for_every_endpoint():
    paths = {(e.method, f"/session/{{session}}/{e.path}".rstrip("/")) for e in ENDPOINTS}
    paths -= {("POST", "/session/{session}")}
    assert documented().keys() == {*paths, ("POST", "/session"), ("GET", "/status")}


@pytest.mark.parametrize("engine", [pytest.param(e, marks=needs(e)) for e in ENGINES])
def test_every_endpoint_does_what_the_table_says(folder, engine):
    inside = (HERE / "endpoints_inside.py").read_text(encoding="utf-8")
    folder.file("suite/test_endpoints.py", inside)
    folder.file("wolfbane.toml", SETTINGS.format(folder=folder.path))
    run = folder.run("--browser", engine)
    assert set(run.outcomes.values()) == {"passed"}, run.out
    assert all(address.endswith(f" @{engine}") for address in run.outcomes)
    told = json.loads((folder.path / f"{engine}.json").read_text())
    came_to: dict[str, str] = {}
    for call, state in told.items():
        method, _, path = call.partition(" ")
        name = "Status" if path == "status" else find(method, path)[0].name
        if came_to.get(name) != "yes":
            came_to[name] = state
    for (method, path), states in documented().items():
        inner = path.partition("{session}")[2].lstrip("/")
        name = "Status" if path == "/status" else find(method, inner)[0].name
        assert came_to[name] == states[engine], f"{method} {path}"
