"""Run test classes with the standard library's own runner and record the outcome of every test.

Run by the interpreter of the tree under test, 3.8 or later:

    python python.py OUT.json discover -s tests -t .

The arguments after the first are those of ``python -m unittest``. The file gets a list of
``[file, name, outcome]``: the path of the file that the test was loaded from, its class and method
joined by `` / ``, and the outcome in Wolfbane's words.
"""

from __future__ import annotations

import json
import os
import sys
import unittest
from collections.abc import Iterator
from typing import Any

_WORST = ("passed", "skipped", "todo", "failed", "errored")
_HOOKS = ("setUpClass", "tearDownClass", "setUpModule", "tearDownModule")


class _Loader(unittest.TestLoader):
    """Notes the file of each module as its tests are loaded, and all tests that were found."""

    def __init__(self) -> None:
        super().__init__()
        self.files: dict[int, str] = {}
        self.kept: list[Any] = []

    def loadTestsFromModule(self, module: Any, *args: Any, **options: Any) -> Any:
        suite = super().loadTestsFromModule(module, *args, **options)
        file = getattr(module, "__file__", "") or ""
        for case in cases(suite):
            if id(case) not in self.files:
                self.files[id(case)] = file
                self.kept.append(case)  # an identity is only known as long as the object is
        return suite


def cases(suite: Any) -> Iterator[Any]:
    """Every test case inside nested suites."""
    try:
        members = iter(suite)
    except TypeError:
        yield suite
        return
    for member in members:
        yield from cases(member)


class _Result(unittest.TextTestResult):
    """Notes what is reported of each test."""

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.news: dict[int, list[str]] = {}
        self.hooks: list[tuple[str, str, str]] = []
        self.order: list[Any] = []

    def startTest(self, test: Any) -> None:
        super().startTest(test)
        self.order.append(test)
        self.news.setdefault(id(test), [])

    def _note(self, test: Any, outcome: str) -> None:
        case = test.test_case if type(test).__name__ == "_SubTest" else test
        if type(case).__name__ == "_ErrorHolder":
            hook, _, folder = str(case).partition(" (")
            self.hooks.append((hook, folder.rstrip(")"), outcome))
        else:
            if id(case) not in self.news:
                self.order.append(case)
            self.news.setdefault(id(case), []).append(outcome)

    def addSuccess(self, test: Any) -> None:
        super().addSuccess(test)
        self._note(test, "passed")

    def addFailure(self, test: Any, err: Any) -> None:
        super().addFailure(test, err)
        self._note(test, "failed")

    def addError(self, test: Any, err: Any) -> None:
        super().addError(test, err)
        self._note(test, "errored")

    def addSkip(self, test: Any, reason: str) -> None:
        super().addSkip(test, reason)
        if type(test).__name__ != "_SubTest":  # a skipped part is not a skipped test
            self._note(test, "skipped")

    def addExpectedFailure(self, test: Any, err: Any) -> None:
        super().addExpectedFailure(test, err)
        self._note(test, "todo")

    def addUnexpectedSuccess(self, test: Any) -> None:
        super().addUnexpectedSuccess(test)
        self._note(test, "failed")

    def addSubTest(self, test: Any, subtest: Any, err: Any | None) -> None:
        super().addSubTest(test, subtest, err)
        if err is not None:
            failed = issubclass(err[0], test.failureException)
            self._note(test, "failed" if failed else "errored")


class _Runner(unittest.TextTestRunner):
    resultclass = _Result


def name_of(case: Any) -> str:
    """The class and the method of a test; an empty name for a file that did not load."""
    if type(case).__module__ == "unittest.loader":
        return ""
    method = getattr(case, "_testMethodName", "")
    if not method or (method == "runTest" and type(case).id is not unittest.TestCase.id):
        return str(case.id() if hasattr(case, "id") else case)
    return " / ".join([*type(case).__qualname__.split("<locals>.")[-1].split("."), method])


def file_of(case: Any, loader: _Loader, top: str) -> str:
    """The file that a test belongs to, relative to the working folder."""
    file = loader.files.get(id(case), "")
    if name_of(case) == "":
        path = os.path.join(top, *case._testMethodName.split("."))
        file = path + ".py" if os.path.isfile(path + ".py") else os.path.join(path, "__init__.py")
    return os.path.relpath(file) if file else ""


def rows(program: Any, result: Any) -> Iterator[tuple[str, str, str]]:
    """The outcome of each test that was loaded."""
    loader = program.testLoader
    top = loader._top_level_dir or os.getcwd()
    for case in _distinct([*loader.kept, *result.order]):
        news = result.news.get(id(case))
        if news is None:
            kind = type(case)
            places = (f"{kind.__module__}.{kind.__qualname__}", kind.__module__)
            news = [outcome for _, folder, outcome in result.hooks if folder in places][:1]
            if not news:
                news = ["never ran"]
        if not news:
            news = ["passed"]
        worst = max(news, key=(*_WORST, "never ran").index)
        yield file_of(case, loader, top), name_of(case), worst
    for hook, folder, outcome in result.hooks:
        if hook.startswith("tearDown") and outcome != "skipped":
            yield "", f"{folder.rpartition('.')[2]} / {hook}", outcome


def _distinct(matches: list[Any]) -> list[Any]:
    return list({id(case): case for case in matches}.values())


def main() -> None:
    """Run the tests and write what became of them."""
    out = os.path.abspath(sys.argv[1])
    sys.path[0] = os.getcwd()  # as `python -m unittest` has it
    program = unittest.main(
        module=None,
        argv=["python -m unittest", *sys.argv[2:]],
        exit=False,
        testRunner=_Runner,
        testLoader=_Loader(),
    )
    with open(out, "w", encoding="utf-8") as file:
        json.dump(list(rows(program, program.result)), file)


if __name__ == "__main__":
    main()
