"""The test files of each room of the source: those that a change in it most likely breaks.

A room is a path below ``src/wolfbane``. A file belongs to the room with the longest path.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import PurePosixPath

ROOMS: dict[str, tuple[str, ...]] = {
    "app": ("embedding", "again", "shares"),
    "app/bridges": ("bridge_learn", "bridge_safety"),
    "basis": ("settings", "inventory", "load_parts"),
    "browsers": ("browser_sessions", "browser_endpoints", "downloads"),
    "browsers/engines": ("browser_sessions", "browsers"),
    "browsers/evidence": ("browser_replay", "passwords"),
    "cli": ("program", "manners", "streams"),
    "cli/commands": ("program", "manners", "again"),
    "cli/options": ("completion", "presets", "manners"),
    "cluster": ("cluster", "cluster_load"),
    "demo": ("program",),
    "environments": ("environments", "secrets"),
    "errors.py": ("settings", "manners"),
    "events": ("reports", "embedding"),
    "execution": ("retries", "repeat", "survival", "accounting"),
    "formats": ("report_formats", "reports"),
    "inventory": ("inventory", "changed", "include"),
    "kinds": ("parity", "detection", "worker_protocol"),
    "kinds/bridge": ("bridges", "bridge_truth", "bridge_lines", "bridge_starts"),
    "kinds/bridge/learning": ("bridge_learn",),
    "kinds/cargo": ("cargo",),
    "kinds/compiled": ("compiled", "program_kind"),
    "kinds/doctest": ("parity", "own_runner"),
    "kinds/executable": ("tap", "program_kind"),
    "kinds/node": ("node",),
    "kinds/program": ("program_kind",),
    "kinds/python": ("python_kind", "own_runner"),
    "kinds/scenario": ("scenarios", "steps"),
    "kinds/tap": ("tap",),
    "kinds/worker": ("worker_protocol", "processes", "python_kind"),
    "kinds/workflow": ("workflows", "api_requests", "api_answers", "expressions"),
    "kinds/workflow/load": ("load",),
    "load": ("load", "load_parts", "cluster_load"),
    "model.py": ("selection", "reports"),
    "planning": ("shares", "inventory"),
    "reports": ("reports", "report_formats"),
    "reports/console": ("reports", "program"),
    "reports/html": ("html_report",),
    "reports/load": ("load", "compare"),
    "reports/mail": ("mail",),
    "results": ("history", "compare", "old_records"),
    "selection": ("selection", "completion"),
    "setup": ("builds", "surroundings"),
    "steps.py": ("scenarios", "steps"),
    "workers": ("worker_protocol", "processes"),
    "workspace": ("settings", "detection", "revisions"),
}
ALWAYS = ("house", "style")
"""Test files that look at the whole source."""


def room_of(path: str) -> str:
    """The room of a file below ``src/wolfbane``; empty if it has none."""
    parents = [path, *(str(parent) for parent in PurePosixPath(path).parents)]
    return next((parent for parent in parents if parent in ROOMS), "")


def files_for(paths: Iterable[str]) -> list[str]:
    """The test files for changed files of the repository, both relative to its root."""
    names = dict.fromkeys(ALWAYS)
    for path in paths:
        folder = PurePosixPath(path)
        if folder.parts[:1] == ("tests",) and folder.stem.startswith("test_"):
            names[folder.stem.removeprefix("test_")] = None
        elif path.startswith("src/wolfbane/"):
            names.update(dict.fromkeys(ROOMS.get(room_of(path.removeprefix("src/wolfbane/")), ())))
    return [f"tests/test_{name}.py" for name in names]
