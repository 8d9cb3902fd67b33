"""A test that was loaded, and its facts: name, line, tags, and whether it can be called."""

from __future__ import annotations

import functools
import inspect
import os
import unittest
from types import ModuleType

from wolfbane.kinds.python.worker.helpers import helper_functions

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any, Callable, Dict, List, Set

_RECEIVERS = (("self",), ("cls",))
"""The first argument of a method."""


class LoadedTest:
    """A test that can be run, with its name inside its file and its known facts."""

    def __init__(self, case: unittest.TestCase, name: str, file: str) -> None:
        self.case = case
        self.name = name
        kind = type(case)
        self.group = f"{kind.__module__}.{kind.__qualname__}"
        function = _function_of(case)
        self.line = _line_in(function, file)
        own, inherited = _tags(function), _tags(kind)
        self.tags = inherited + [tag for tag in own if tag not in inherited]
        self.blocked = _wanted_arguments(case)


class FunctionTest(unittest.TestCase):
    """A plain ``test_*`` function as a separate test case."""

    def __init__(self, function: Callable[[], Any]) -> None:
        super().__init__("run_function")
        self.function = function

    def run_function(self) -> None:
        """Call the function; a coroutine runs to its end."""
        outcome = self.function()
        if inspect.iscoroutine(outcome):
            import asyncio  # takes a while: only where a test is asynchronous

            asyncio.run(outcome)


def plain_functions(module: ModuleType) -> List[Callable[[], Any]]:
    """The test functions of a module, without those that were made to be methods.

    A loop that makes methods leaves its last function in the module.
    """
    methods = {
        id(value)
        for owner in vars(module).values()
        if isinstance(owner, type)
        for value in vars(owner).values()
    }
    helpers = _helpers(module)
    return [
        value
        for name, value in vars(module).items()
        if name.startswith("test_")
        and name not in helpers
        and name != "test_suite"  # by an old custom, it makes a suite for another launcher
        and inspect.isfunction(value)
        and value.__module__ == module.__name__
        and id(value) not in methods
        and value.__code__.co_varnames[: value.__code__.co_argcount][:1] not in _RECEIVERS
    ]


def _helpers(module: ModuleType) -> Set[str]:
    functions = [value for name, value in vars(module).items() if name.startswith("test_")]
    if not any(map(_parameters_of, filter(inspect.isfunction, functions))):
        return set()
    import ast  # takes a while, and few files need it

    try:
        with open(str(module.__file__), "rb") as file:
            return helper_functions(ast.parse(file.read()))
    except (OSError, SyntaxError, ValueError):
        return set()


def named_tests(cases: List[Any], file: str) -> Dict[str, LoadedTest]:
    """Give each case a unique name; a second case with the same name gets a number."""
    named: Dict[str, LoadedTest] = {}
    for case in cases:
        base = name = _name_of(case)
        number = 1
        while name in named:
            number += 1
            name = f"{base} ({number})"
        named[name] = LoadedTest(case, name, file)
    return named


def _name_of(case: Any) -> str:
    if isinstance(case, FunctionTest):
        return case.function.__name__
    method = getattr(case, "_testMethodName", "")
    has_own_name = method == "runTest" and type(case).id is not unittest.TestCase.id
    if method and not has_own_name and hasattr(type(case), method):
        qualified = type(case).__qualname__.split("<locals>.")[-1]
        return " / ".join([*qualified.split("."), method])
    return str(case.id())


def _function_of(case: Any) -> Any:
    if isinstance(case, FunctionTest):
        return case.function
    return getattr(case, getattr(case, "_testMethodName", ""), None)


def _line_in(function: Any, file: str) -> int:
    """The function's first line, or 0 if it is defined in another file."""
    if hasattr(function, "__wrapped__"):
        function = inspect.unwrap(function)
    code = getattr(function, "__code__", None)
    if code is None or _real(code.co_filename) != _real(file):
        return 0
    return int(code.co_firstlineno)


@functools.lru_cache(maxsize=256)
def _real(path: str) -> str:
    return os.path.realpath(path)


def _tags(owner: Any) -> List[str]:
    tags = getattr(owner, "tags", None)
    if isinstance(tags, str):
        return [tags]
    if isinstance(tags, (list, tuple, set, frozenset)):
        if isinstance(tags, (set, frozenset)):
            return sorted(str(tag) for tag in tags)
        return [str(tag) for tag in tags]
    return []


def _parameters_of(function: Any) -> List[str]:
    """The names of the parameters that a call has to give."""
    return [
        parameter.name
        for parameter in inspect.signature(function, follow_wrapped=False).parameters.values()
        if parameter.default is parameter.empty
        and parameter.kind not in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD)
    ]


def _wanted_arguments(case: Any) -> str:
    """The reason why a function cannot be called, or an empty text."""
    if not isinstance(case, FunctionTest):
        return ""
    wanted = _parameters_of(case.function)
    if not wanted:
        return ""
    return (
        f"the function has parameters ({', '.join(wanted)}), "
        f"but plain test functions get no arguments"
    )
