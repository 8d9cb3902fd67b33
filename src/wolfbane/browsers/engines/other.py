"""Any other engine: its driver conforms to the standard, and the settings name it."""

from wolfbane.browsers.engines.contract import BrowserEngine

ENGINE = BrowserEngine()
