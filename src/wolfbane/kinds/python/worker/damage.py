"""Detects and repairs changes that a test made to its process and that would affect later tests.

Only state that is cheap to check is compared, before and after each test: the standard streams, the
import path, the table of modules, the working folder, limits, timers, signal handlers, environment
variables, builtin functions, those of ``time``, and the methods of the classes that run tests.
"""

from __future__ import annotations

import _signal  # type: ignore[import-not-found]  # signal makes enumerations of all it returns
import builtins
import importlib
import io
import os
import resource
import signal
import sys
import time
import unittest
from functools import partial

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any, Callable, Dict, List

_LIMITS = {
    name: getattr(resource, name)
    for name in (
        "RLIMIT_NOFILE",
        "RLIMIT_FSIZE",
        "RLIMIT_AS",
        "RLIMIT_DATA",
        "RLIMIT_CPU",
        "RLIMIT_NPROC",
        "RLIMIT_STACK",
    )
    if hasattr(resource, name)
}
_SIGNALS = [
    getattr(signal, name)
    for name in (
        "SIGINT",
        "SIGTERM",
        "SIGALRM",
        "SIGCHLD",
        "SIGHUP",
        "SIGPIPE",
        "SIGUSR1",
        "SIGUSR2",
    )
]
_TIMERS = (signal.ITIMER_REAL, signal.ITIMER_VIRTUAL, signal.ITIMER_PROF)
_OFF = (0.0, 0.0)
_NONE_RUNS, _NO_TIMER = [_OFF for _ in _TIMERS], [False for _ in _TIMERS]
_HOLDERS = {
    "": builtins,
    "time.": time,
    "unittest.TestCase.": unittest.TestCase,
    "unittest.TestResult.": unittest.TestResult,
    "unittest.TestSuite.": unittest.TestSuite,
    "unittest.BaseTestSuite.": unittest.BaseTestSuite,
}
"""The holders of functions that a test must not replace, by what stands before a name of each."""
_DOCTEST = ("OutputChecker", "DocTestParser", "DocTestFinder", "DocTestRunner")
_ESSENTIAL = {
    "sys": sys,
    "builtins": builtins,
    "os": os,
    "importlib": importlib,
    "unittest": unittest,
    "unittest.case": unittest.case,
}
"""Modules that later files must find unchanged, because another copy would be created."""
_STREAMS = {"stdout": 1, "__stdout__": 1, "stderr": 2, "__stderr__": 2}
_ENVIRON = getattr(os.environ, "_data", os.environ)
"""The variables in the interpreter's form: reading them as texts takes a hundred times longer."""


class Damage:
    """The repairs after a test, as texts. ``lasting`` lists changes that could not be repaired."""

    def __init__(self) -> None:
        self.mended: List[str] = []
        self.lasting: List[str] = []

    def mend(self, message: str, how: Callable[[], Any]) -> None:
        """Try to undo one thing."""
        try:
            how()
        except Exception:  # a test may have damaged whatever this needs
            self.lasting.append(message)
        else:
            self.mended.append(message)


class ProcessState:
    """The state of the process at one moment."""

    def __init__(self) -> None:
        self._path = list(sys.path)
        self._folder = _folder()
        self._limits = _limits()
        self._handlers = _handlers()
        self._timers = _timers()
        self._variables = dict(_ENVIRON)
        self._holders = _holders()
        self._functions = [dict(holder.__dict__) for holder in self._holders.values()]
        self._values = [[*functions.values()] for functions in self._functions]
        self._streams = _streams()
        self._closed = _closed()
        self._has_essentials = _has_essentials()

    def still_holds(self) -> bool:
        """Whether none of the checked state has changed.

        It is called after each test: lists of functions compare in half the time of dicts.
        """
        try:
            return (
                sys.path == self._path
                and self._variables == _ENVIRON
                and [[*h.__dict__.values()] for h in self._holders.values()] == self._values
                and _streams() == self._streams
                and _closed() == self._closed
                and _handlers() == self._handlers
                and _timers() == self._timers
                and _limits() == self._limits
                and _folder() == self._folder
                and _has_essentials() == self._has_essentials
            )
        except Exception:  # something that cannot be compared was put there
            return False

    def restore(self, after: ProcessState) -> Damage:
        """Undo the changes of a test, and report them.

        Additions stay: entries of the import path, variables. Other tests may depend on them.
        """
        damage = Damage()
        self._restore_functions(damage)
        self._restore_streams(damage)
        if self._has_essentials and not after._has_essentials:
            damage.lasting.append("modules that the interpreter needs removed from sys.modules")
        lost = [entry for entry in self._path if entry not in after._path]
        if lost:
            damage.mend(f"removed from sys.path: {', '.join(lost[:3])}", self._restore_path)
        if self._folder and after._folder != self._folder:
            damage.mend("working folder changed", partial(os.chdir, self._folder))
        limits = zip(_LIMITS.items(), self._limits, after._limits)
        for (name, what), limit, now in limits:
            if now != limit:
                damage.mend(f"{name} changed", partial(resource.setrlimit, what, limit))
        # Before their handlers go: what is left would end the process in the midst of another test.
        for timer, ran, runs in zip(_TIMERS, self._timers, after._timers):
            if runs and not ran:
                damage.mend("a timer left running", partial(signal.setitimer, timer, 0))
        for number, handler, now_handler in zip(_SIGNALS, self._handlers, after._handlers):
            if now_handler != handler:
                message = f"handler of {signal.Signals(number).name} changed"
                damage.mend(message, partial(signal.signal, number, handler))
        self._restore_variables(damage)
        return damage

    def _restore_functions(self, damage: Damage) -> None:
        for (start, holder), functions in zip(self._holders.items(), self._functions):
            for name, function in functions.items():
                if holder.__dict__.get(name) is not function and name != "_":
                    message = f"{start}{name} replaced"
                    damage.mend(message, partial(setattr, holder, name, function))

    def _restore_streams(self, damage: Damage) -> None:
        for name, stream in self._streams.items():
            if sys.__dict__.get(name) is not stream and stream is not None:
                damage.mend(f"sys.{name} replaced", partial(setattr, sys, name, stream))
        for (name, descriptor), closed in zip(_STREAMS.items(), _closed()):
            if closed:
                damage.mend(f"sys.{name} closed", partial(_reopen, name, descriptor))

    def _restore_variables(self, damage: Damage) -> None:
        gone = {
            os.fsdecode(name): os.fsdecode(value)
            for name, value in self._variables.items()
            if _ENVIRON.get(name) != value
        }
        if gone:
            message = f"environment variables changed or removed: {', '.join(sorted(gone)[:3])}"
            damage.mend(message, partial(os.environ.update, gone))

    def _restore_path(self) -> None:
        added = [entry for entry in sys.path if entry not in self._path]
        sys.path[:] = [*self._path, *added]


def _holders() -> Dict[str, Any]:
    examples = sys.modules.get("doctest")
    if examples is None:
        return _HOLDERS
    return {**_HOLDERS, **{f"doctest.{name}.": getattr(examples, name) for name in _DOCTEST}}


def _streams() -> Dict[str, Any]:
    return {"stdout": sys.__dict__.get("stdout"), "stderr": sys.__dict__.get("stderr")}


def _folder() -> str:
    try:
        return os.getcwd()
    except OSError:  # it was removed
        return ""


def _has_essentials() -> bool:
    try:
        return _ESSENTIAL.items() <= sys.modules.items()
    except Exception:  # a test may have put any object in its place
        return False


def _limits() -> List[Any]:
    return list(map(resource.getrlimit, _LIMITS.values()))


def _handlers() -> List[Any]:
    return list(map(_signal.getsignal, _SIGNALS))


def _timers() -> List[bool]:
    """Which timers run."""
    left = list(map(_signal.getitimer, _TIMERS))
    if left == _NONE_RUNS:
        return _NO_TIMER
    return [each != _OFF for each in left]


def _closed() -> List[bool]:
    """The standard streams; a missing stream is closed."""
    known = sys.__dict__
    return [
        stream is None or bool(getattr(stream, "closed", False))
        for stream in map(known.get, _STREAMS)
    ]


def _reopen(name: str, descriptor: int) -> None:
    file = io.FileIO(descriptor, "w", closefd=False)
    stream = io.TextIOWrapper(
        io.BufferedWriter(file), encoding="utf-8", errors="backslashreplace", line_buffering=True
    )
    setattr(sys, name, stream)


def in_words(damage: Damage) -> Dict[str, Any]:
    """The parts of a message about a test's changes, and whether they last."""
    return {"left": [*damage.mended, *damage.lasting], "lasting": bool(damage.lasting)}
