"""Collects and runs the tests of Python files, and reports through the channel."""

from __future__ import annotations

import faulthandler
import gc
import os
import sys
import time
import unittest
import warnings

from wolfbane.kinds.python.worker.damage import ProcessState, in_words
from wolfbane.kinds.python.worker.loaded_test import LoadedTest
from wolfbane.kinds.python.worker.loading import TestLoader
from wolfbane.kinds.python.worker.module_state import ModuleState
from wolfbane.kinds.worker.capture import Capture
from wolfbane.kinds.worker.channel import Channel, Message, connect
from wolfbane.kinds.worker.problems import problem_of, subtest_name, verdict_of

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any, Dict, List, Optional, Tuple, Type


def serve(library: Type[TestLoader]) -> None:
    """Serve requests until Wolfbane closes the channel. ``library`` finds the tests of a file."""
    channel, options, requests = connect(f"Python {sys.version.split()[0]}")
    sys.argv[:] = ["python -m unittest"]
    faulthandler.enable()
    capture = Capture(options["capture"], options.get("live", False))
    worker = _PythonWorker(channel, capture, library(options["root"], options))
    gc.freeze()  # what serves the tests stays: a test that collects garbage waits less
    for request in requests:
        if request["type"] == "collect":
            worker.collect(request["files"])
        elif request["type"] == "run":
            worker.run(request["file"], request["names"])


def main() -> None:
    """Serve requests about test classes and functions."""
    serve(TestLoader)


def _show_warnings() -> None:
    """Choose the warnings of a test run as ``unittest.main`` does.

    It comes after the imports, so it hides the filters that modules of tests set when they load.
    The options ``-W`` and ``PYTHONWARNINGS`` turn it off.
    """
    if sys.warnoptions:
        return
    warnings.simplefilter("default")
    if sys.version_info < (3, 12):  # later versions do not have these names any more
        message = r"Please use assert\w+ instead."
        warnings.filterwarnings("module", message=message, category=DeprecationWarning)


class _PythonWorker:
    def __init__(self, channel: Channel, capture: Capture, library: TestLoader) -> None:
        self.channel = channel
        self.capture = capture
        self.library = library

    def collect(self, files: List[str]) -> None:
        """Import each file and report its tests."""
        for path in files:
            self.channel.send({"type": "collecting", "file": path})
            problem: Message = {}
            tests: Dict[str, LoadedTest] = {}
            try:
                tests = self.library.tests(path)
            except BaseException as error:
                problem = problem_of(error)
            output = self.capture.take()
            divisible = self.library.divisible.get(path, False)
            done = {"type": "collected", "file": path, "divisible": divisible, **problem}
            done["tests"] = [_test_message(path, test) for test in tests.values()]
            done["depends"] = self.library.sources(test.case for test in tests.values())
            self.channel.send({**done, "output": output} if problem else done)

    def run(self, path: str, names: List[str]) -> None:
        """Run the named tests of one file, with class and module hooks."""
        waiting: Dict[int, LoadedTest] = {}
        suite = unittest.TestSuite()
        for name in names:
            try:
                test = self.library.take(path, name)
            except BaseException as error:  # the file loads no more, though it did before
                self._finish(path, name, seconds=0.0, **problem_of(error))
            else:
                if test is None:
                    self._finish(
                        path,
                        name,
                        "errored",
                        message="the test is no longer in the file",
                        seconds=0.0,
                    )
                elif test.blocked:
                    self._finish(path, name, "blocked", message=test.blocked, seconds=0.0)
                else:
                    waiting[id(test.case)] = test
                    suite.addTest(test.case)
        self.library.use(path)
        result = _Result(self, path, waiting)
        modules = ModuleState(self.library.root, os.path.join(self.library.root, path))
        while True:
            try:
                with warnings.catch_warnings():
                    _show_warnings()
                    suite.run(result)
                break
            except KeyboardInterrupt:  # raised by a test itself: no key reaches this process
                suite = unittest.TestSuite(test.case for test in waiting.values())
        if result.spoiled:
            waiting.clear()
        result.account_for_the_rest()
        if changed := modules.restore():
            damage = {"left": [f"{name} replaced" for name in changed], "lasting": False}
            self.channel.hold({"type": "damage", "address": path, **damage})
        self.channel.send({"type": "ran", "file": path, "spoiled": result.spoiled})

    def _finish(
        self, path: str, name: str, outcome: str, message: str, seconds: float, **more: Any
    ) -> None:
        address = address_of(path, name)
        finished = {"address": address, "outcome": outcome, "message": message}
        self.channel.send({"type": "finished", **finished, "seconds": seconds, **more})


class _Result(unittest.TestResult):
    """Converts the reports of the standard library's classes to messages."""

    def __init__(self, worker: _PythonWorker, path: str, waiting: Dict[int, LoadedTest]) -> None:
        super().__init__()
        self._worker = worker
        self._path = path
        self._waiting = waiting
        self._hooks: List[Tuple[str, str, Message]] = []
        self._current: Optional[LoadedTest] = None
        self._news: List[Message] = []
        self._parts: List[Message] = []
        self._began = 0.0
        self._class: Any = None
        self._state = ProcessState()
        """Before the running test; for tests of one class, after the previous one."""
        self.spoiled = False

    def startTest(self, test: Any) -> None:
        loaded = self._waiting.get(id(test))
        if loaded is None:
            return
        self._current, self._news, self._parts = loaded, [], []
        if type(test) is not self._class:  # hooks of classes and modules ran meanwhile
            self._class, self._state = type(test), ProcessState()
        self._worker.channel.send({"type": "started", "address": self._address(loaded.name)})
        self._began = time.perf_counter()

    def stopTest(self, test: Any) -> None:
        loaded = self._current
        if loaded is None or loaded is not self._waiting.get(id(test)):
            return
        seconds = time.perf_counter() - self._began
        leaving = sys.exc_info()[1]
        if isinstance(leaving, KeyboardInterrupt):
            self._news.append(problem_of(leaving))
        message: Message = {"type": "finished", "address": self._address(loaded.name)}
        message.update(verdict_of(self._news, self._parts), seconds=round(seconds, 6))
        if self._parts:
            message["parts"] = self._parts
        output = self._worker.capture.take()
        if output:
            kept = {"type": "output", "address": message["address"], "stream": "both"}
            self._worker.channel.hold({**kept, "text": output})
        self._look_at_damage(message["address"])
        self._worker.channel.hold(message)
        del self._waiting[id(test)]
        self._current = None

    def _look_at_damage(self, address: str) -> None:
        """Repair the changes of the test.

        If that is not possible, the other tests go to another worker.
        """
        if self._state.still_holds():
            return
        damage = self._state.restore(ProcessState())
        self._state = ProcessState()
        if damage.mended or damage.lasting:
            message = {"type": "damage", "address": address, **in_words(damage)}
            self._worker.channel.hold(message)
        if damage.lasting:
            self.spoiled = True
            self.stop()

    def addSuccess(self, test: Any) -> None:
        self._news.append({"outcome": "passed"})

    def addFailure(self, test: Any, err: Any) -> None:
        self._news.append(problem_of(err[1], "failed"))

    def addError(self, test: Any, err: Any) -> None:
        if self._current is None:
            self._hook(test, problem_of(err[1]))
        else:
            self._news.append(problem_of(err[1]))

    def addSkip(self, test: Any, reason: str) -> None:
        if self._current is None and id(test) in self._waiting:  # Python 3.12.1 starts no skips
            loaded = self._waiting.pop(id(test))
            self._worker._finish(
                self._path, loaded.name, "skipped", message=str(reason), seconds=0.0
            )
        elif self._current is None:
            self._hook(test, {"outcome": "skipped", "message": str(reason)})
        elif id(test) == id(self._current.case):
            self._news.append({"outcome": "skipped", "message": str(reason)})
        else:
            self._parts.append(
                {"name": subtest_name(test), "outcome": "skipped", "message": str(reason)}
            )

    def addExpectedFailure(self, test: Any, err: Any) -> None:
        problem = problem_of(err[1])
        self._news.append(
            {"outcome": "todo", "message": f"failed as expected: {problem['message']}"}
        )

    def addUnexpectedSuccess(self, test: Any) -> None:
        self._news.append(
            {"outcome": "failed", "message": "passed, although it is marked as an expected failure"}
        )

    def addSubTest(self, test: Any, subtest: Any, err: Optional[Tuple[Any, Any, Any]]) -> None:
        part: Message = {"name": subtest_name(subtest), "outcome": "passed"}
        if err is not None:
            outcome = "failed" if issubclass(err[0], test.failureException) else "errored"
            problem = problem_of(err[1], outcome)
            part.update(outcome=outcome, message=problem["message"])
            self._news.append(problem)
        self._parts.append(part)

    def account_for_the_rest(self) -> None:
        """The reports of class and module hooks, after all tests.

        Tests that could not start because of a failed hook get its outcome; a hook that failed
        after its tests is a separate entry.
        """
        output = self._worker.capture.take()
        reported = set()
        for loaded in list(self._waiting.values()):
            places = (loaded.group, type(loaded.case).__module__)
            hook = next((h for h in self._hooks if h[0] in places), None)
            reported.add(id(hook))
            problem = hook[2] if hook else _never_started()
            self._worker._finish(self._path, loaded.name, seconds=0.0, **problem)
        for hook in self._hooks:
            file, name, problem = hook
            if id(hook) not in reported and problem["outcome"] != "skipped":
                name = f"{file.rpartition('.')[2]} / {name}"
                if output:
                    kept = {"type": "output", "address": self._address(name), "stream": "both"}
                    self._worker.channel.hold({**kept, "text": output})
                self._worker._finish(self._path, name, seconds=0.0, **problem)

    def _hook(self, holder: Any, problem: Message) -> None:
        """``holder`` reads ``setUpClass (module.Class)`` or ``tearDownModule (module)``."""
        hook, _, file = str(holder).partition(" (")
        if problem["outcome"] != "skipped":
            problem = {**problem, "message": f"in {hook}: {problem['message']}"}
        self._hooks.append((file.rstrip(")"), hook, problem))

    def _address(self, name: str) -> str:
        return address_of(self._path, name)


def address_of(path: str, name: str) -> str:
    """A test's address; its path alone if the file is the test."""
    return f"{path}#{name}" if name else path


def _never_started() -> Message:
    return {"outcome": "errored", "message": "the standard library's runner did not run this test"}


def _test_message(path: str, test: LoadedTest) -> Message:
    address = address_of(path, test.name)
    message: Message = {"type": "test", "address": address, "group": test.group}
    if test.line:
        message["line"] = test.line
    if test.tags:
        message["tags"] = test.tags
    if test.blocked:
        message["blocked"] = test.blocked
    return message
