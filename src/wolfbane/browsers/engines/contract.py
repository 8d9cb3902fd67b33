"""The interface of browser engines: how a browser is found, started and driven.

To add an engine, write a module with an ``ENGINE`` next to this one, and add its name to
``EngineName`` in ``workspace/vocabulary``.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wolfbane.workspace.settings import Browser

if TYPE_CHECKING:  # commands that only look for browsers need none of it, and aiohttp is large
    import aiohttp

    from wolfbane.browsers.engines.drivers import BrowserDriver
    from wolfbane.browsers.engines.firefox_start_files import StartFiles
    from wolfbane.browsers.engines.programs import Programs
    from wolfbane.browsers.engines.wanted import Wanted


@dataclass(frozen=True)
class Installed:
    """The programs of a browser: ``driver`` is its command, empty if it needs none."""

    binary: str = ""
    driver: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True)
class BrowserStart:
    """All that starts one browser with one session."""

    name: str
    browser: Browser
    here: Installed
    programs: Programs
    client: aiohttp.ClientSession
    variables: dict[str, str]
    start_files: StartFiles
    visible: bool
    listen: bool


class BrowserEngine:
    """A browser engine. The values are those of a driver that conforms to the standard.

    ``binaries`` and ``drivers`` are the programs to look for, the usual first; a ``*`` stands for
    any folder. ``browser_names`` are the values of the capability ``browserName`` that mean it, and
    ``vendor`` is the capability with its own options.
    """

    name = "other"
    binaries: tuple[str, ...] = ()
    drivers: tuple[str, ...] = ()
    install = ""
    """How to install it."""
    browser_names: tuple[str, ...] = ()
    vendor = ""
    passes_options = False
    """Whether its driver understands other options of a suite than arguments and preferences."""
    needs_screen = False
    """Whether it needs a screen even if its window is not visible."""
    needs_short_paths = False
    """Whether the path of its profile is limited, because sockets are in it."""
    same_version = False
    """Whether the browser and the driver must have the same version."""
    has_logs = False
    """Whether its driver collects the console and the network of a page."""
    private_address = False
    """Whether its driver can listen at a path that others cannot guess."""
    locale_variables = True
    """Whether it takes its language from environment variables."""

    def driver(self, start: BrowserStart) -> BrowserDriver | None:
        """The way to drive it, if that is not a WebDriver driver."""
        return None

    def variables(self, folder: Path, downloads: str) -> dict[str, str]:
        """More environment variables for the driver; ``folder`` is for the session's files."""
        return {}

    def arguments(self, browser: Browser, folder: Path, *, visible: bool) -> list[str]:
        """The arguments of the browser."""
        return list(browser.arguments)

    def preferences(self, browser: Browser) -> dict[str, Any]:
        """The preferences of the browser."""
        return dict(browser.preferences)

    def capabilities(
        self,
        want: Wanted,
        browser: Browser,
        binary: str,
        *,
        arguments: list[str],
        preferences: Mapping[str, Any],
    ) -> dict[str, Any]:
        """The capabilities for a driver process."""
        return dict(want.standard)

    def sizes_page(self, browser: Browser) -> bool:
        """Whether the capabilities already give the page its size."""
        return False

    def waits_for_lost_browser(self, *, starts: bool) -> bool:
        """Whether its driver waits long for a browser that no longer runs."""
        return False

    def lost_message(self, message: str) -> str:
        """The reason in an error of the driver that means that the browser no longer runs."""
        return ""

    def may_mean_lost(self, code: str) -> bool:
        """Whether its driver returns this error also if the browser has ended."""
        return False
