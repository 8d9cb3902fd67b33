"""WebKit, as WebKitGTK has it: driven by WebKitWebDriver."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from wolfbane.browsers.engines.contract import BrowserEngine
from wolfbane.browsers.engines.wanted import Wanted
from wolfbane.browsers.failures import UNKNOWN_ERROR
from wolfbane.workspace.settings import Browser

_SUSPICIOUS = (UNKNOWN_ERROR, "invalid session id", "timeout")


class WebKit(BrowserEngine):
    """WebKitGTK's small browser."""

    name = "webkit"
    binaries = (
        "MiniBrowser",
        "/usr/lib/*/webkit2gtk-4.*/MiniBrowser",
        "/usr/libexec/webkit2gtk-4.*/MiniBrowser",
    )
    drivers = ("WebKitWebDriver",)
    install = "install WebKit's driver (Debian: webkit2gtk-driver)"
    browser_names = ("minibrowser", "webkit", "safari", "webkitgtk")
    vendor = "webkitgtk:browserOptions"
    needs_screen = True

    def variables(self, folder: Path, downloads: str) -> dict[str, str]:
        """A folder of settings with the folder for downloads (xdg-user-dirs)."""
        if not downloads:
            return {}
        path = folder / "config"
        path.mkdir()
        quoted = re.sub(r'(["$`\\\\])', r"\\\1", downloads)
        text = f'XDG_DOWNLOAD_DIR="{quoted}"\n'
        (path / "user-dirs.dirs").write_text(text, encoding="utf-8")
        return {"XDG_CONFIG_HOME": str(path)}

    def arguments(self, browser: Browser, folder: Path, *, visible: bool) -> list[str]:
        """The browser's name for servers, and the arguments of the settings."""
        agent = [f"--user-agent={browser.user_agent}"] if browser.user_agent else []
        return [*agent, *browser.arguments]

    def capabilities(
        self,
        want: Wanted,
        browser: Browser,
        binary: str,
        *,
        arguments: list[str],
        preferences: Mapping[str, Any],
    ) -> dict[str, Any]:
        """The program, and its arguments."""
        options = {"binary": binary, "args": ["--automation", *arguments]}
        return {**want.standard, self.vendor: options}

    def waits_for_lost_browser(self, *, starts: bool) -> bool:
        """Its driver waits minutes."""
        return True

    def may_mean_lost(self, code: str) -> bool:
        """Errors that are also returned if the browser has ended."""
        return code in _SUSPICIOUS


ENGINE = WebKit()
