"""Translates WebDriver commands to Firefox's own commands: names, parameters and responses."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from wolfbane.browsers.endpoints import ELEMENT, Endpoint, find, is_known
from wolfbane.browsers.engines.marionette import Marionette
from wolfbane.browsers.failures import WebDriverError

_NAMES = {
    "Navigate To": "Navigate",
    "Find Element From Element": "FindElement",
    "Find Elements From Element": "FindElements",
    "Get Element Shadow Root": "GetShadowRoot",
    "Get All Cookies": "GetCookies",
    "Get Named Cookie": "GetCookies",
    "Take Element Screenshot": "TakeScreenshot",
    "Print Page": "Print",
    "Execute Async Script": "ExecuteAsyncScript",
}
_RENAMED = {
    "GetElementCSSValue": {"name": "propertyName", "element": "id"},
    "FindElement": {"element": "element"},
    "FindElements": {"element": "element"},
    "FindElementFromShadowRoot": {"shadow": "shadowRoot"},
    "FindElementsFromShadowRoot": {"shadow": "shadowRoot"},
}
_BARE = {
    "GetTimeouts",
    "GetWindowRect",
    "SetWindowRect",
    "MaximizeWindow",
    "FullscreenWindow",
    "GetElementRect",
    "NewWindow",
    "GetWindowHandles",
    "FindElements",
    "GetCookies",
    "CloseWindow",
    "FindElementsFromShadowRoot",
    "MinimizeWindow",
}


async def carry_out(firefox: Marionette, method: str, path: str, body: dict[str, Any]) -> Any:
    """Let Firefox execute a command; returns its value. Raises WebDriverError and OSError."""
    endpoint, places = find(method, path)
    if endpoint.name == f"{method} {endpoint.path}":
        error = "unknown command"
        if is_known(path):
            error = "unknown method"
        raise WebDriverError(error, endpoint.name)
    name = _NAMES.get(endpoint.name, endpoint.name.replace(" ", ""))
    result = await firefox.command(
        f"WebDriver:{name}", _parameters(endpoint, name, places, body=body)
    )
    if endpoint.name == "Get Named Cookie":
        return _named(result, places["name"])
    if name in _BARE or not isinstance(result, Mapping) or "value" not in result:
        return result
    return result["value"]


def _parameters(
    endpoint: Endpoint, name: str, places: Mapping[str, str], body: dict[str, Any]
) -> dict[str, Any]:
    renamed = _RENAMED.get(name, {"element": "id"})
    parameters = dict(body)
    for key, value in places.items():
        parameters[renamed.get(key, key)] = value
    if endpoint.name == "Switch To Frame":
        frame = body.get("id")
        if isinstance(frame, Mapping):
            return {"element": frame.get(ELEMENT)}
        return {"id": frame}
    if name == "TakeScreenshot":
        return {**parameters, "full": False, "hash": False}
    if endpoint.name == "Get Named Cookie":
        return {}
    return parameters


def _named(cookies: Any, name: str) -> Any:
    for cookie in cookies:
        if cookie["name"] == name:
            return cookie
    raise WebDriverError("no such cookie", f"there is no cookie '{name}'")
