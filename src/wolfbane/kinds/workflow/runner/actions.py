"""Finds the action after a step: the first success or failure action whose criteria are met."""

from __future__ import annotations

import email.utils
import time
from collections.abc import Iterator, Mapping
from typing import Any

from wolfbane.kinds.workflow.runner.criteria import check
from wolfbane.kinds.workflow.runner.scope import Answer, Scope

RETRIES = 1
LONGEST_PAUSE = 120.0


def next_action(
    step: Mapping[str, Any],
    workflow: Mapping[str, Any],
    scope: Scope,
    *,
    succeeded: bool,
    spent: Mapping[str, int],
) -> dict[str, Any] | None:
    """The action to take; None if there is none left by the standard's rules.

    ``spent`` counts retries.

    A step's own actions come first, and replace the workflow's actions of the same name.
    """
    if succeeded:
        keys = ("onSuccess", "successActions")
    else:
        keys = ("onFailure", "failureActions")
    for action in _candidates(step.get(keys[0], []), workflow.get(keys[1], []), scope):
        if not all(check(criterion, scope)[0] for criterion in action.get("criteria", [])):
            continue
        limit = action.get("retryLimit", RETRIES)
        if action["type"] == "retry" and spent.get(action["name"], 0) >= limit:
            continue
        return action
    return None


def _candidates(own: list[Any], shared: list[Any], scope: Scope) -> Iterator[dict[str, Any]]:
    names = set()
    for entry in own:
        action = scope.library.document.resolved(entry)
        names.add(action["name"])
        yield action
    for entry in shared:
        action = scope.library.document.resolved(entry)
        if action["name"] not in names:
            yield action


def pause_before(action: Mapping[str, Any], answer: Answer | None) -> float:
    """Seconds to wait before a retry: the server's value overrides the document's."""
    retry_after = ""
    if answer is not None:
        retry_after = answer.headers.get("retry-after", "")
    seconds = float(action.get("retryAfter", 0))
    if retry_after.strip().isdecimal():
        seconds = float(retry_after)
    elif retry_after:
        try:
            seconds = email.utils.parsedate_to_datetime(retry_after).timestamp() - time.time()
        except ValueError:
            pass
    return min(max(seconds, 0.0), LONGEST_PAUSE)
