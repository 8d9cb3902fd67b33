"""Chromium: driven by chromedriver, with the logs and options of it."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from wolfbane.browsers.engines.contract import BrowserEngine
from wolfbane.browsers.engines.wanted import Wanted, size
from wolfbane.workspace.settings import Browser

_EMPTY_START = {"session.restore_on_startup": 4, "session.startup_urls": ["data:,"]}
"""The value from chromedriver's own profiles; otherwise, Chromium loads its page for new tabs."""
_GONE = ("disconnected", "not reachable", "browser has closed the connection", "crash")
"""The message of chromedriver if its browser no longer runs."""
_NARROW = 500
"""CSS pixels. Chromium's windows cannot be narrower."""


class Chromium(BrowserEngine):
    """Chromium and its relatives."""

    name = "chromium"
    binaries = ("chromium", "chromium-browser", "chrome")
    drivers = ("chromedriver",)
    install = "install chromium and its driver (Debian: chromium, chromium-driver)"
    browser_names = ("chrome", "chromium", "chromium-browser")
    vendor = "goog:chromeOptions"
    passes_options = True
    needs_short_paths = True
    same_version = True
    has_logs = True
    private_address = True

    def arguments(self, browser: Browser, folder: Path, *, visible: bool) -> list[str]:
        """A private profile, and nothing that contacts anybody without the suite."""
        arguments = [
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            f"--user-data-dir={folder / 'profile'}",
            # Every user of the machine can reach a port, and drive the browser through it.
            "--remote-debugging-pipe",
        ]
        if not visible:
            arguments.append("--headless=new")
        if os.geteuid() == 0:
            arguments.append("--no-sandbox")
        if wide := size(browser):
            arguments.append(f"--window-size={wide[0]},{wide[1]}")
        if browser.user_agent:
            arguments.append(f"--user-agent={browser.user_agent}")
        if browser.language:
            arguments.append(f"--lang={browser.language}")
        return [*arguments, *browser.arguments]

    def preferences(self, browser: Browser) -> dict[str, Any]:
        """An empty first page, the language, and the folder for downloads."""
        preferences: dict[str, Any] = {**_EMPTY_START, **browser.preferences}
        if browser.language:
            preferences["intl.accept_languages"] = browser.language
        if browser.downloads:
            preferences["download.default_directory"] = browser.downloads
            preferences["download.prompt_for_download"] = False
        return preferences

    def capabilities(
        self,
        want: Wanted,
        browser: Browser,
        binary: str,
        *,
        arguments: list[str],
        preferences: Mapping[str, Any],
    ) -> dict[str, Any]:
        """The options of chromedriver."""
        capabilities = dict(want.standard)
        options: dict[str, Any] = {
            **capabilities.pop(self.vendor, {}),
            "args": arguments,
            "binary": binary,
            "prefs": dict(preferences),
        }
        if metrics := _device_metrics(browser):
            options["mobileEmulation"] = {"deviceMetrics": metrics}
        return {**capabilities, self.vendor: options}

    def sizes_page(self, browser: Browser) -> bool:
        """With emulated pixels, the page has the size of the settings from its start."""
        return bool(_device_metrics(browser))

    def waits_for_lost_browser(self, *, starts: bool) -> bool:
        """At the start, it waits a minute for the first response through the pipe."""
        return starts

    def lost_message(self, message: str) -> str:
        """The first line of chromedriver's message."""
        if any(sign in message for sign in _GONE):
            return message.partition("\n")[0]
        return ""


def _device_metrics(browser: Browser) -> dict[str, Any]:
    """The emulation of a page that is smaller than Chromium's windows, or has other pixels."""
    wide = size(browser)
    if wide is None or (wide[0] >= _NARROW and not browser.device_pixels):
        return {}
    return {
        "width": wide[0],
        "height": wide[1],
        "pixelRatio": browser.device_pixels or 1.0,
        "touch": wide[0] < _NARROW,
    }


ENGINE = Chromium()
