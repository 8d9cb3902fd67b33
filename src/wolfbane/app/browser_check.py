"""Opens each installed browser once."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable

from msgspec.structs import replace

from wolfbane.browsers.failures import CannotOpen, WebDriverError
from wolfbane.browsers.status import BrowserStatus
from wolfbane.workers.process_group import ProcessGroup
from wolfbane.workspace.settings import Workspace


def open_each(workspace: Workspace, browsers: Iterable[BrowserStatus]) -> list[BrowserStatus]:
    """Open each installed browser once, and read the name that it reports."""
    return asyncio.run(_open_each(workspace, list(browsers)))


async def _open_each(workspace: Workspace, browsers: list[BrowserStatus]) -> list[BrowserStatus]:
    import aiohttp

    from wolfbane.browsers.browser_pool import BrowserPool
    from wolfbane.browsers.engines.programs import Programs
    from wolfbane.browsers.engines.wanted import Wanted

    checked = []
    with ProcessGroup() as group:
        async with aiohttp.ClientSession() as client:
            opener = BrowserPool(Programs(group), workspace, client, visible=False, listen=False)
            for each in browsers:
                if each.problem:
                    checked.append(each)
                    continue
                try:
                    driver = await opener.take(each.name, Wanted())
                except (CannotOpen, WebDriverError, OSError) as error:
                    checked.append(replace(each, problem=str(error)))
                    continue
                version = str(driver.granted.get("browserVersion", each.version))
                checked.append(replace(each, version=version, opened=True))
                await driver.close()
            await opener.close()
    return checked
