"""Builds the next request after a redirect (RFC 9110, section 15.4)."""

from __future__ import annotations

from collections.abc import Mapping

from yarl import URL

from wolfbane.kinds.workflow.runner.scope import Call

_SEE_OTHER = 303
_MAY_CHANGE = (301, 302)
REDIRECTS = (*_MAY_CHANGE, _SEE_OTHER, 307, 308)
_PRIVATE = ("authorization", "cookie")


def redirected(call: Call, own: Mapping[str, str], status: int, url: URL) -> Call:
    """The request for a redirect to ``url``.

    ``own`` are the headers of the request before the workflow's cookies were added.
    """
    headers = {name: value for name, value in own.items() if name.lower() != "host"}
    private = {*_PRIVATE, *call.private}
    if URL(call.url).origin() != url.origin():  # credentials are for one host only
        headers = {name: value for name, value in headers.items() if name.lower() not in private}
    changed = status == _SEE_OTHER or (status in _MAY_CHANGE and call.method == "POST")
    if not changed or call.method == "HEAD":
        return Call(
            call.method, str(url), headers, {}, {}, call.body, call.content, call.private
        )  # fmt: skip
    kept = {name: v for name, v in headers.items() if not name.lower().startswith("content-")}
    return Call("GET", str(url), kept, {}, {}, private=call.private)
