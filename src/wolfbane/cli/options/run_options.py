"""The options of a run, created from the fields of RunRequest."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Mapping
from typing import TYPE_CHECKING, Any

import click
from click.core import ParameterSource

from wolfbane.cli.options.path_completion import reports
from wolfbane.cli.options.values import duration, reading
from wolfbane.setup.run_option import RunOption, options_of
from wolfbane.setup.run_request import RunRequest, run_options

if TYPE_CHECKING:
    from wolfbane.load.load_request import LoadRequest
    from wolfbane.workspace.settings import Workspace

_COMPLETIONS = {"reports": reports}


class GroupedOption(click.Option):
    """An option that has a help group."""

    def __init__(self, *names: Any, group: str, **how: Any) -> None:
        super().__init__(*names, **how)
        self.group = group


def request_options(*only: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """The options of RunRequest, or of some of its fields. The command gets one ``request``."""
    chosen = {name: how for name, how in run_options().items() if not only or name in only}
    return _options_of(chosen, "request", lambda own: RunRequest(**_given(chosen, own)))


def load_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of LoadRequest. The command gets ``load``, which creates one for a workspace.

    Typed options override the workspace's profile.
    """
    from wolfbane.load.load_request import LoadRequest  # NumPy takes a while: only for this command

    chosen = options_of(LoadRequest)

    def make(own: Mapping[str, Any]) -> Callable[[Workspace], LoadRequest]:
        ctx, given = click.get_current_context(), _given(chosen, own)
        typed = {
            name: value
            for name, value in given.items()
            if ctx.get_parameter_source(name) is ParameterSource.COMMANDLINE
        }
        return lambda workspace: _load(workspace, given, typed)

    return _options_of(chosen, "load", make)(command)


def _load(workspace: Workspace, given: Mapping[str, Any], typed: Mapping[str, Any]) -> LoadRequest:
    from wolfbane.load.load_request import LoadRequest
    from wolfbane.load.profiles import find_profile, with_profile

    name = given.get("profile")
    if not name:
        return LoadRequest(**given)
    return with_profile(find_profile(workspace, name), name, typed)


def _given(chosen: Mapping[str, tuple[RunOption, Any]], own: Mapping[str, Any]) -> dict[str, Any]:
    """The values of options in the form of fields."""
    return {
        name: type(chosen[name][1])(value) if chosen[name][0].flags else value
        for name, value in own.items()
        if value is not None
    }


def _options_of(
    chosen: Mapping[str, tuple[RunOption, Any]],
    argument: str,
    make: Callable[[Mapping[str, Any]], Any],
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Options of fields. The command gets the object made from their values as ``argument``."""

    def decorate(command: Callable[..., Any]) -> Callable[..., Any]:
        @functools.wraps(command)
        def wrapped(**values: Any) -> Any:
            own = {name: values.pop(name) for name in chosen}
            return command(**{argument: make(own)}, **values)

        decorated: Callable[..., Any] = wrapped
        for name, (option, default) in reversed(list(chosen.items())):
            for names, how in reversed([*_declarations(name, option, default)]):
                decorated = click.option(
                    *names, name, cls=GroupedOption, group=option.group, **how
                )(decorated)
        return decorated

    return decorate


def _declarations(
    name: str, option: RunOption, default: Any
) -> Iterator[tuple[tuple[str, ...], dict[str, Any]]]:
    """The names and the other arguments of ``click.option`` for a field."""
    for flag, (value, text) in option.flags.items():
        yield (flag,), {"flag_value": value, "help": text, "default": None}
    if not option.names:
        return
    how: dict[str, Any] = {"help": option.help, "metavar": option.value or None}
    if option.choices:
        how["type"] = click.Choice(option.choices)
        how |= {} if option.several else {"default": default, "show_default": True}
    elif isinstance(default, bool):
        how["is_flag"] = True
    elif option.read is not None:
        how["callback"] = reading(option.read)
    elif option.is_time:
        how["callback"] = duration
    elif option.at_least is not None:
        how["type"] = click.IntRange(option.at_least)
    elif default is None:
        how["type"] = int
    if option.several:
        how["multiple"] = True
    if name in _COMPLETIONS:
        how["shell_complete"] = _COMPLETIONS[name]
    yield option.names, how
