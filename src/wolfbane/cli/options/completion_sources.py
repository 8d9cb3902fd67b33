"""The words that a shell can complete, taken from the recorded data of the workspace.

Nothing is scanned or checked here, so completion is immediate.
"""

from __future__ import annotations

import os
import tomllib
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import click

from wolfbane.cli.options.path_completion import expression
from wolfbane.kinds.registry import KINDS
from wolfbane.selection.fields import FIELDS, field_of
from wolfbane.workspace.vocabulary import SETTINGS_NAME, STATUSES

Complete = Callable[[click.Context, click.Parameter, str], list[str]]
MOST = 200


class _CompletionFolder:
    """The workspace's folder and its settings as written."""

    def __init__(self, ctx: click.Context) -> None:
        given = ctx.params.get("workspace")
        start = Path(given or Path.cwd()).resolve()
        folders = (start,) if given else (start, *start.parents)
        file = next((f / SETTINGS_NAME for f in folders if (f / SETTINGS_NAME).is_file()), None)
        self.root = file.parent if file else start
        self.settings: dict[str, Any] = {}
        if file is not None:
            try:
                self.settings = tomllib.loads(file.read_text(encoding="utf-8"))
            except (OSError, ValueError):
                self.settings = {}

    def table(self, name: str) -> dict[str, Any]:
        table = self.settings.get(name, {})
        if isinstance(table, dict):
            return table
        return {}

    @property
    def results(self) -> Path:
        return self.root / str(self.table("workspace").get("results", ".wolfbane"))

    def values(self, subject: str, start: str) -> list[str]:
        from wolfbane.results.completion_cache import words_starting

        return words_starting(self.results, subject, start)[:MOST]


def _starting(values: Iterable[str], incomplete: str) -> list[str]:
    return [word for word in values if word.startswith(incomplete)]


def _last_of_list(
    ctx: click.Context, param: click.Parameter, incomplete: str, find: Callable[[str], list[str]]
) -> list[str]:
    """Completions for the text after the last comma, each with the text before it.

    Values that the option already has are not offered again.
    """
    before, comma, last = incomplete.rpartition(",")
    given = ctx.params.get(param.name or "") or ()
    given = (given,) if isinstance(given, str) else given
    has = {word for text in (*given, before) for word in str(text).split(",")}
    return [f"{before}{comma}{word}" for word in find(last) if word not in has]


def of_field(name: str) -> Complete:
    """Completions for the option of a selection field."""
    source = field_of(name).completed_from

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
        if source == "files":
            return paths(ctx, param, incomplete)
        if source == "names":
            return _CompletionFolder(ctx).values("names", incomplete)
        return _last_of_list(
            ctx, param, incomplete, find=lambda start: _values(_CompletionFolder(ctx), name, start)
        )

    return complete


def expressions(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """The last term of an expression; tag keys in use are also fields."""
    folder = _CompletionFolder(ctx)
    keys = {tag.partition("=")[0] for tag in folder.values("tags", "") if "=" in tag}

    def values(ctx: click.Context, field: str, start: str) -> list[str]:
        return _values(folder, field, start)

    return expression([*dict.fromkeys([*FIELDS, *sorted(keys)])], values, incomplete, ctx)


def _values(folder: _CompletionFolder, field: str, start: str) -> list[str]:
    source = field_of(field).completed_from
    match source:
        case "files" | "names" | "tags":
            return folder.values(source, start)
        case "kinds":
            return _starting(KINDS, start)
        case "statuses":
            return _starting(STATUSES, start)
        case "revisions":
            return _revisions(folder, start)
        case "suites":
            declared = [str(suite.get("name")) for suite in folder.settings.get("suite", [])]
            return _starting(dict.fromkeys([*declared, *folder.values("suites", "")]), start)
        case "browsers":
            suites = folder.settings.get("suite", [])
            listed = [str(name) for suite in suites for name in suite.get("browsers", [])]
            if listed:
                return _starting(dict.fromkeys([*listed, "all"]), start)
            return []
        case "machines":
            from wolfbane.results.newest import Newest

            return _starting(Newest(folder.results).by_machine(), start)
    tags = folder.values("tags", f"{field}={start}")
    return [tag.partition("=")[2] for tag in tags]


def _revisions(folder: _CompletionFolder, start: str) -> list[str]:
    from wolfbane.workspace.git import revision_names

    return _starting(["HEAD", *revision_names(folder.root)], start)


def revisions(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Branches and tags, and those of the selected environment."""
    folder = _CompletionFolder(ctx)
    return [*_starting(["deployed"], incomplete), *_revisions(folder, incomplete)]


def paths(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Test files, one folder at a time; after ``FILE#``, the addresses in the file."""
    folder = _CompletionFolder(ctx)
    inside = os.path.relpath(Path.cwd(), folder.root)
    before = "" if inside == "." or inside.startswith("..") else f"{inside}/"
    if "#" in incomplete:
        addresses = folder.values("addresses", before + incomplete)
        return [word.removeprefix(before) for word in addresses]
    from wolfbane.results.completion_cache import words_starting

    files = words_starting(folder.results, "files", before + incomplete)
    cut = len(before + incomplete)
    steps: dict[str, None] = {}
    for file in files:
        end = file.find("/", cut)
        steps[file[len(before) : end + 1 if end >= 0 else None]] = None
    if list(steps) == [incomplete]:
        return [incomplete, f"{incomplete}#"]
    return list(steps)[:MOST]


def environments(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Environments, or several separated by commas."""
    names = list(_CompletionFolder(ctx).table("env"))
    return _last_of_list(ctx, param, incomplete, find=lambda start: _starting(names, start))


def parameters(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Names of parameters."""
    from wolfbane.workspace.dotted import with_dotted_names

    return _starting(
        with_dotted_names(_CompletionFolder(ctx).settings).get("param", {}), incomplete
    )


def settings(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """``KEY=`` for parameters, and the values of parameters with choices."""
    from wolfbane.workspace.dotted import with_dotted_names

    declared = with_dotted_names(_CompletionFolder(ctx).settings).get("param", {})
    key, equals, value = incomplete.partition("=")
    if not equals:
        return [f"{name}=" for name in _starting(declared, key)]
    choices = declared.get(key, {}).get("choices", [])
    return [f"{key}={choice}" for choice in _starting(choices, value)]


def presets(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Presets of the workspace and of the user."""
    from wolfbane.workspace.presets import personal_file

    names = list(_CompletionFolder(ctx).table("preset"))
    try:
        own = tomllib.loads(personal_file().read_text(encoding="utf-8"))
        names += own.get("preset", {})
    except (OSError, ValueError):
        pass
    return _starting(dict.fromkeys(names), incomplete)


def runs(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Recorded runs, the newest first."""
    folder = _CompletionFolder(ctx).results / "runs"
    names = sorted((path.name for path in folder.glob("*")), reverse=True)
    return _starting(["last", "previous", *names], incomplete)
