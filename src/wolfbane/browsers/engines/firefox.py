"""Firefox: driven by its own protocol, or by a driver that the settings name."""

from __future__ import annotations

from wolfbane.browsers.engines.contract import BrowserEngine, BrowserStart
from wolfbane.browsers.engines.drivers import BrowserDriver
from wolfbane.browsers.engines.firefox_driver import FirefoxDriver


class Firefox(BrowserEngine):
    """Firefox needs no driver program."""

    name = "firefox"
    binaries = ("firefox", "firefox-esr")
    install = "install Firefox (Debian: firefox-esr)"
    browser_names = ("firefox",)
    vendor = "moz:firefoxOptions"
    locale_variables = False

    def driver(self, start: BrowserStart) -> BrowserDriver | None:
        """Its own protocol, unless there is a driver."""
        if start.browser.url or start.here.driver:
            return None
        return FirefoxDriver(start)


ENGINE = Firefox()
