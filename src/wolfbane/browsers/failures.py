"""Errors of WebDriver, by their codes: https://www.w3.org/TR/webdriver2/#errors."""

from __future__ import annotations

UNKNOWN_ERROR = "unknown error"
STATUSES = {
    "element click intercepted": 400,
    "element not interactable": 400,
    "insecure certificate": 400,
    "invalid argument": 400,
    "invalid cookie domain": 400,
    "invalid element state": 400,
    "invalid selector": 400,
    "invalid session id": 404,
    "detached shadow root": 404,
    "no such alert": 404,
    "no such cookie": 404,
    "no such element": 404,
    "no such frame": 404,
    "no such shadow root": 404,
    "no such window": 404,
    "stale element reference": 404,
    "unknown command": 404,
    "unknown method": 405,
    "javascript error": 500,
    "move target out of bounds": 500,
    "script timeout": 500,
    "session not created": 500,
    "timeout": 500,
    "unable to capture screen": 500,
    "unable to set cookie": 500,
    "unexpected alert open": 500,
    UNKNOWN_ERROR: 500,
    "unsupported operation": 500,
}


class WebDriverError(Exception):
    """A command that failed, by the standard's code."""

    def __init__(self, code: str, message: str) -> None:
        self.code = code if code in STATUSES else UNKNOWN_ERROR
        self.message = message
        super().__init__(f"{self.code}: {message}")

    @property
    def status(self) -> int:
        """The HTTP status that the standard gives to the code."""
        return STATUSES[self.code]

    @property
    def value(self) -> dict[str, str]:
        """The value of the response."""
        return {"error": self.code, "message": self.message, "stacktrace": ""}


class CannotOpen(Exception):
    """A browser that cannot be used. The text gives the reason and a fix."""
