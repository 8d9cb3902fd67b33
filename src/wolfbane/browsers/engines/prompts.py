"""Handles dialogs that block a command (WebDriver, "user prompts").

With WebDriver BiDi, Firefox closes a dialog as soon as it opens. A suite that uses only WebDriver
Classic must find the dialog open. So Firefox leaves dialogs open, and this module closes them as
the suite's session requests.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping
from typing import Any

from wolfbane.browsers.failures import WebDriverError

CAPABILITY = "unhandledPromptBehavior"
LEAVE_OPEN = {"default": "ignore", "beforeUnload": "accept"}
_DEFAULT = "dismiss and notify"
_OPEN = "unexpected alert open"
_MOST = 10
"""Dialogs that one command closes: a page may open dialogs without end."""


class Prompts:
    """Handles dialogs as a session requests."""

    def __init__(self, standard: Mapping[str, Any]) -> None:
        wish = standard.get(CAPABILITY, _DEFAULT)
        self.behaviour = wish if isinstance(wish, str) else ""
        """Empty if each kind of dialog is handled separately: Firefox does that itself."""

    async def meet(
        self, do: Callable[[], Awaitable[Any]], close: Callable[[str], Awaitable[Any]]
    ) -> Any:
        """Run a command although a dialog may block it.

        Raises WebDriverError if the dialog is an error.

        ``close`` gets the word ``accept`` or ``dismiss``.
        """
        verb, _, notify = self.behaviour.partition(" and ")
        for _ in range(_MOST):
            try:
                return await do()
            except WebDriverError as error:
                if error.code != _OPEN or verb not in ("accept", "dismiss"):
                    raise
                await close(verb)
                if notify:
                    raise
        return await do()
