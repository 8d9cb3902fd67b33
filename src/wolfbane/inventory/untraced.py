"""Words about changed files that no test is known to use."""

from __future__ import annotations

from collections.abc import Sequence

_NAMED = 3
"""Number of files that the words name."""
ADVICE = "--changed-unknown all selects all tests in this case"


def untraced_words(paths: Sequence[str], *, whole: bool = False) -> str:
    """The files, all of them with ``whole``, and that no test is known to use them."""
    if len(paths) == 1:
        return f"{paths[0]}; no test is known to use it"
    if whole:
        shown = paths
    else:
        shown = paths[:_NAMED]
    more = ""
    if len(shown) < len(paths):
        more = ", ..."
    return f"{len(paths)} files that no test is known to use: {', '.join(shown)}{more}"
