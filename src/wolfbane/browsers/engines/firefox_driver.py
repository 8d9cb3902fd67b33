"""Runs Firefox with its own profile, and controls it with its own protocol."""

from __future__ import annotations

import asyncio
import contextlib
import json
import shutil
import subprocess
import time
from collections.abc import Mapping
from typing import Any

from wolfbane.basis.exit_status import how_it_ended
from wolfbane.browsers.engines import prompts
from wolfbane.browsers.engines.bidi_listener import BidiListener
from wolfbane.browsers.engines.contract import BrowserStart
from wolfbane.browsers.engines.drivers import PATIENCE, Reply, fit
from wolfbane.browsers.engines.gecko import carry_out
from wolfbane.browsers.engines.marionette import Marionette
from wolfbane.browsers.engines.wanted import Wanted, size
from wolfbane.browsers.evidence.records import BrowserRecords
from wolfbane.browsers.failures import CannotOpen, WebDriverError
from wolfbane.workspace.settings import Browser

_QUIET: dict[str, Any] = {
    "marionette.port": 0,
    "remote.active-protocols": 1,
    "app.update.disabledForTesting": True,
    "app.normandy.enabled": False,
    "browser.aboutwelcome.enabled": False,
    "browser.bookmarks.restore_default_bookmarks": False,
    "browser.cache.disk.smart_size.enabled": False,
    "browser.dom.window.dump.enabled": True,
    "browser.newtabpage.enabled": False,
    "browser.safebrowsing.malware.enabled": False,
    "browser.safebrowsing.phishing.enabled": False,
    "browser.safebrowsing.update.enabled": False,
    "browser.search.update": False,
    "browser.sessionstore.resume_from_crash": False,
    "browser.shell.checkDefaultBrowser": False,
    "browser.startup.homepage_override.mstone": "ignore",
    "browser.startup.page": 0,
    "browser.tabs.warnOnClose": False,
    "browser.topsites.contile.enabled": False,
    "browser.translations.enable": False,
    "browser.uitour.enabled": False,
    "datareporting.healthreport.uploadEnabled": False,
    "datareporting.policy.dataSubmissionEnabled": False,
    "dom.disable_open_during_load": False,
    "dom.max_script_run_time": 0,
    "extensions.getAddons.cache.enabled": False,
    "extensions.update.enabled": False,
    "media.gmp-manager.updateEnabled": False,
    "network.captive-portal-service.enabled": False,
    "network.connectivity-service.enabled": False,
    "network.http.prompt-temp-redirect": False,
    "network.prefetch-next": False,
    "security.certerrors.mitm.priming.enabled": False,
    "services.settings.server": "http://127.0.0.1:1",
    "signon.autofillForms": False,
    "signon.rememberSignons": False,
    "startup.homepage_welcome_url": "about:blank",
    "toolkit.startup.max_resumed_crashes": -1,
    "toolkit.telemetry.server": "http://127.0.0.1:1",
}
_PROFILE_ONLY = {"extensions.enabledScopes": 1}
"""Only the add-ons of the profile, not those of the program or the machine: saves a quarter of a
start.
"""
_LANGUAGE = "intl.locale.requested"
_QUITTING = 5.0
_SOCKET = "webSocketUrl"
_BIDI = 3
"""The value of ``remote.active-protocols`` that turns on both protocols."""


class FirefoxDriver:
    """One Firefox, one session."""

    def __init__(self, start: BrowserStart) -> None:
        self.session = self.said = self.address = ""
        self.records = BrowserRecords()
        self.downloads = start.browser.downloads
        self._listens, self._listener = start.listen, BidiListener(self.records)
        self._prompts: prompts.Prompts | None = None
        self._is_over = False
        self.granted: dict[str, Any] = {}
        self._name, self._browser, self._here = start.name, start.browser, start.here
        self._programs, self._start_files = start.programs, start.start_files
        self._visible, self._folder = start.visible, self._programs.folder()
        self._profile = self._folder / "profile"
        folders = {"TMPDIR": str(self._folder), "HOME": str(self._folder)}
        self._variables = {**start.variables, **folders}
        self._said = self._folder / "firefox.out"
        self._process: subprocess.Popen[bytes] | None = None
        self._connection: Marionette | None = None
        self._lock = asyncio.Lock()

    async def open(self, want: Wanted) -> None:
        """Start the browser and open a session. Raises CannotOpen."""
        try:
            self._launch(want)
            self._connection = await self._connected()
            asked = want.standard
            if self._is_beside(want):
                asked = {**asked, _SOCKET: True, prompts.CAPABILITY: prompts.LEAVE_OPEN}
                self._prompts = prompts.Prompts(want.standard)
            granted = await self._connection.command("WebDriver:NewSession", asked)
            self.session = granted["sessionId"]
            self.granted = granted["capabilities"]
            await self._listen(want)
            self.said = await fit(self, self._browser)
        except (OSError, WebDriverError) as error:
            await self.close()
            message = f"browser '{self._name}' could not open a session: {error}"
            raise WebDriverError("session not created", message) from None
        except BaseException:
            await self.close()
            raise

    async def _listen(self, want: Wanted) -> None:
        url = self.granted.get(_SOCKET)
        if self._listens and isinstance(url, str):
            await self._listener.open(url)
        if self._prompts is not None:  # what the suite did not ask for it does not see
            del self.granted[_SOCKET]
            self.granted[prompts.CAPABILITY] = self._prompts.behaviour

    def _is_beside(self, want: Wanted) -> bool:
        """Whether Wolfbane listens to a session whose suite does not use WebDriver BiDi."""
        plain = not want.standard.get(_SOCKET) and prompts.Prompts(want.standard).behaviour
        return self._listens and bool(plain)

    def _launch(self, want: Wanted) -> None:
        self._profile.mkdir()
        self._start_files.lay(self._profile)
        bidi = self._is_beside(want) or bool(want.standard.get(_SOCKET))
        preferences = {**_QUIET, **_from_settings(self._browser)}
        preferences |= {**self._browser.preferences, **want.preferences}
        if bidi:
            preferences["remote.active-protocols"] = _BIDI
        if _LANGUAGE not in preferences:  # a language comes as an add-on of the program
            preferences = _PROFILE_ONLY | preferences
        lines = [f"user_pref({json.dumps(k)}, {json.dumps(v)});" for k, v in preferences.items()]
        (self._profile / "user.js").write_text("\n".join(lines) + "\n", encoding="utf-8")
        command = [self._here.binary, "--marionette", "--no-remote", "--profile"]
        command.append(str(self._profile))
        if not self._visible:
            command.append("--headless")
        if bidi:
            command.append("--remote-debugging-port=0")
        if wide := size(self._browser):
            command += ["--width", str(wide[0]), "--height", str(wide[1])]
        command += [*self._browser.arguments, *want.arguments]
        self._process = self._programs.start(
            command, self._variables, self._said, self._folder.name
        )

    async def _connected(self) -> Marionette:
        """Connect when the port of Firefox is in its profile."""
        until = time.monotonic() + PATIENCE
        while time.monotonic() < until and not self.ended():
            try:
                port = int((self._profile / "MarionetteActivePort").read_text())
                return await Marionette.connect(port)
            except (OSError, ValueError):
                await asyncio.sleep(0.01)
        message = self.ended() or f"no connection to the browser within {PATIENCE:g} s"
        output = self._said.read_text(errors="replace").strip()[-500:]
        raise CannotOpen(f"browser '{self._name}': {message} {output}".strip())

    async def command(self, method: str, path: str, body: bytes) -> Reply:
        """Execute a WebDriver command through the remote protocol of the browser."""
        if self._connection is None:
            raise ConnectionResetError("the browser is closed")
        try:
            if body:
                parameters = json.loads(body)
            else:
                parameters = {}
            if not isinstance(parameters, dict):
                raise WebDriverError("invalid argument", "the body is not a JSON object")
            if self._is_over:
                raise WebDriverError(
                    "invalid session id", "the last window of the browser was closed"
                )
            async with self._lock:
                value = await self._carry_out(self._connection, method, path, parameters=parameters)
            # Firefox keeps its last window; by the standard the session ends with it.
            self._is_over = (method, path, value) == ("DELETE", "window", [])
        except WebDriverError as error:
            return Reply(error.status, json.dumps({"value": error.value}).encode())
        except ValueError as error:
            broken = WebDriverError("invalid argument", f"the body is not JSON: {error}")
            return Reply(broken.status, json.dumps({"value": broken.value}).encode())
        except OSError as error:
            raise ConnectionResetError(self.ended() or str(error)) from None
        return Reply(200, json.dumps({"value": value}).encode())

    async def _carry_out(
        self, connection: Marionette, method: str, path: str, parameters: dict[str, Any]
    ) -> Any:
        if self._prompts is None:
            return await carry_out(connection, method, path, parameters)
        return await self._prompts.meet(
            lambda: carry_out(connection, method, path, parameters),
            lambda verb: connection.command(f"WebDriver:{verb.capitalize()}Alert", {}),
        )

    async def read_records(self) -> None:
        """Nothing to do: events arrive by themselves."""

    def for_suite(self, path: str, parameters: Mapping[str, Any], reply: Reply) -> Reply:
        """The unchanged response: listening removes nothing."""
        return reply

    def ended(self) -> str:
        """How its process ended; empty while it runs."""
        if self._process is None or self._process.poll() is None:
            return ""
        return f"the browser ended: {how_it_ended(self._process.returncode)}"

    async def close(self) -> None:
        """End the session and the browser; keep its profile for later starts."""
        await self._listener.close()
        if self._connection is not None:
            if self.session and self._start_files.claim():
                await self._quit(self._connection)
            self._connection.close()
            self._connection = None
        if self._process is not None:
            await asyncio.to_thread(self._programs.end, self._process, self._folder.name)
        await asyncio.to_thread(shutil.rmtree, self._folder, ignore_errors=True)

    async def _quit(self, connection: Marionette) -> None:
        """End it properly, so that its start-up files are complete, and keep these files."""
        with contextlib.suppress(OSError, WebDriverError, TimeoutError):
            async with asyncio.timeout(_QUITTING):
                await connection.command("Marionette:Quit", {"flags": ["eForceQuit"]})
                while not self.ended():
                    await asyncio.sleep(0.02)
            await asyncio.to_thread(self._start_files.keep, self._profile)


def _from_settings(browser: Browser) -> dict[str, Any]:
    preferences: dict[str, Any] = {}
    if browser.user_agent:
        preferences["general.useragent.override"] = browser.user_agent
    if browser.language:
        preferences["intl.accept_languages"] = browser.language
        preferences[_LANGUAGE] = browser.language
    if browser.device_pixels:
        preferences["layout.css.devPixelsPerPx"] = str(browser.device_pixels)
    if browser.downloads:
        preferences["browser.download.dir"] = browser.downloads
        preferences["browser.download.folderList"] = 2
        preferences["browser.helperApps.neverAsk.saveToDisk"] = "application/octet-stream"
        preferences["browser.download.always_ask_before_handling_new_types"] = False
    return preferences
