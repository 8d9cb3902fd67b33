"""Talk to the booking service that the environment points to."""

from __future__ import annotations

import json
import os
import urllib.error
import urllib.request


def ask(method: str, path: str, body: object = None, token: str | None = None) -> tuple[int, object]:
    """Send a request; returns the status and the JSON of the response."""
    request = urllib.request.Request(os.environ["HARBOUR_URL"] + path, method=method)
    if body is not None:
        request.data = json.dumps(body).encode()
        request.add_header("Content-Type", "application/json")
    shown = os.environ["HARBOUR_TOKEN"] if token is None else token
    request.add_header("Authorization", f"Bearer {shown}")
    try:
        with urllib.request.urlopen(request, timeout=10) as answer:
            return answer.status, json.load(answer)
    except urllib.error.HTTPError as error:
        return error.code, json.load(error)
