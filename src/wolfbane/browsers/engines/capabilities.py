"""The capabilities of a new session: the browser's settings and the suite's requests."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from wolfbane.browsers.engines.registry import find_engine, vendor_keys
from wolfbane.browsers.engines.wanted import Wanted
from wolfbane.workspace.settings import Browser
from wolfbane.workspace.vocabulary import OTHER_ENGINE

_OURS = ("--headless", "--user-data-dir", "--profile", "--window-size", "--remote-debugging")
_LATER = "timeouts"
_DECIDED = ("browserName", "browserVersion", "platformName")


def wanted(name: str, browser: Browser, requested: Any) -> Wanted:
    """Adapt the body of a New Session command to a browser.

    Raises ValueError for an invalid body.
    """
    want = Wanted()
    names = find_engine(browser.engine).browser_names
    for key, value in _chosen(requested, names).items():
        if key == _LATER:
            want.timeouts = dict(value)
        elif key in _DECIDED:
            value_text = str(value).lower()
            if not (key == "browserName" and value_text in (*names, name.lower(), "")):
                want.said.append(f"the suite requests {key} '{value}'; it gets browser '{name}'")
        elif key in vendor_keys() and browser.engine != OTHER_ENGINE and not browser.url:
            _vendor(want, name, browser, key=key, value=value)
        else:
            want.standard[key] = value
    if browser.insecure and want.standard.setdefault("acceptInsecureCerts", True) is not True:
        want.standard["acceptInsecureCerts"] = True
        message = "the suite does not accept insecure certificates, but the settings of"
        want.said.append(f"{message} browser '{name}' accept them")
    if browser.engine == OTHER_ENGINE or browser.url:
        want.standard = {**browser.capabilities, **want.standard}
    return want


def _chosen(requested: Any, names: tuple[str, ...]) -> dict[str, Any]:
    """The first alternative for this browser; without one, the first of all."""
    if not isinstance(requested, Mapping) or not isinstance(requested.get("capabilities"), Mapping):
        raise ValueError("'capabilities' is missing or not an object")
    always = requested["capabilities"].get("alwaysMatch", {})
    firsts = requested["capabilities"].get("firstMatch", [{}])
    if not isinstance(always, Mapping):
        raise ValueError("'alwaysMatch' is not an object")
    if (
        not isinstance(firsts, list)
        or not firsts
        or not all(isinstance(f, Mapping) for f in firsts)
    ):
        raise ValueError("'firstMatch' is not a list of objects")
    for first in firsts:
        if twice := always.keys() & first.keys():
            raise ValueError(f"'{min(twice)}' is in alwaysMatch and in firstMatch")
    merged = [{**always, **first} for first in firsts]
    return next((m for m in merged if m.get("browserName") in names), merged[0])


def _vendor(want: Wanted, name: str, browser: Browser, key: str, value: Any) -> None:
    engine = find_engine(browser.engine)
    if engine.vendor != key:
        want.said.append(f"the suite's {key} does not apply to browser '{name}' and is ignored")
        return
    options = dict(value)
    for argument in options.pop("args", []):
        if str(argument).startswith("-"):
            text = argument
        else:
            text = f"--{argument}"
        if text.startswith(_OURS):
            if not text.startswith("--headless"):
                want.said.append(f"the suite requests {text}; browser '{name}' uses its own")
        else:
            want.arguments.append(text)
    for key_of_prefs in ("prefs", "preferences"):
        want.preferences.update(options.pop(key_of_prefs, {}))
    if options.pop("binary", None):
        want.said.append(f"the suite requests a binary; browser '{name}' uses its own")
    if options and engine.passes_options:
        want.standard[key] = options
    elif options:
        message = ", ".join(options)
        want.said.append(
            f"the suite's {key} ({message}) is not supported by browser '{name}' and is ignored"
        )
