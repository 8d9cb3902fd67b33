"""Asks the system in an environment for its version."""

from __future__ import annotations

import json
import os
import re
import subprocess
from pathlib import Path
from typing import Any

import msgspec

from wolfbane.environments.environment import Environment
from wolfbane.workspace.version_source import VersionSource


class DeployedVersion(msgspec.Struct, frozen=True):
    """The version that a system reports, and its git revision; or ``trouble``, the reason why it is
    unknown.
    """

    text: str = ""
    revision: str = ""
    trouble: str = ""


def ask_version(environment: Environment, folder: Path) -> DeployedVersion:
    """Ask the system in an environment with a version source for its version.

    A command runs in ``folder``.
    """
    source = environment.version
    assert source is not None
    try:
        text = _version_in(_answer(source, environment, folder), source)
    except ValueError as error:
        return DeployedVersion(trouble=environment.mask(str(error)))
    shown = environment.mask(text)
    return DeployedVersion(shown, source.revision.replace("{version}", shown))


def _answer(source: VersionSource, environment: Environment, folder: Path) -> str:
    """The text that contains the version. Raises ValueError."""
    if source.url:
        return _http_answer(source)
    try:
        done = subprocess.run(
            source.command,
            cwd=folder,
            env={**os.environ, **environment.exports},
            capture_output=True,
            stdin=subprocess.DEVNULL,
            text=True,
            errors="replace",
            timeout=source.within,
            check=False,
        )
    except subprocess.TimeoutExpired:
        raise ValueError(f"{source.command[0]}: no output within {source.within:g} s") from None
    except OSError as error:
        raise ValueError(f"{source.command[0]}: {error.strerror or error}") from None
    if done.returncode:
        raise ValueError(f"{source.command[0]} ended with exit code {done.returncode}")
    return done.stdout


def _http_answer(source: VersionSource) -> str:
    import httpx

    try:
        answer = httpx.get(source.url, timeout=source.within, follow_redirects=True)
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise ValueError(f"GET {source.url}: {error or type(error).__name__}") from None
    if answer.is_error:
        raise ValueError(f"GET {source.url}: status {answer.status_code}")
    if not source.header:
        return answer.text
    if source.header not in answer.headers:
        raise ValueError(f"GET {source.url}: the response has no header '{source.header}'")
    return str(answer.headers[source.header])


def _version_in(text: str, source: VersionSource) -> str:
    """The version in a response: one word or line. Raises ValueError."""
    if source.pointer:
        text = _pointed_at(text, source.pointer)
    if source.pattern:
        match = re.search(source.pattern, text)
        if match is None:
            raise ValueError(f"the response does not match '{source.pattern}'")
        if match.re.groups:
            text = match[1]
        else:
            text = match[0]
    text = (text or "").strip()
    if not text or "\n" in text or len(text) > 200:
        shown = text[:40].replace("\n", " ")
        raise ValueError(f"the response is not a version: '{shown}'")
    return text


def _pointed_at(text: str, pointer: str) -> str:
    """The value at a JSON pointer (RFC 6901) in a text. Raises ValueError."""
    try:
        value: Any = json.loads(text)
    except ValueError:
        raise ValueError("the response is not JSON") from None
    for token in pointer.split("/")[1:]:
        key = token.replace("~1", "/").replace("~0", "~")
        try:
            value = value[int(key)] if isinstance(value, list) else value[key]
        except (LookupError, TypeError, ValueError):
            raise ValueError(f"the response has no value at {pointer}") from None
    if not isinstance(value, str | int | float):
        raise ValueError(f"the value at {pointer} in the response is not a text")
    return str(value)
