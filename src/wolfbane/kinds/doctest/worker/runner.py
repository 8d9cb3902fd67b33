"""Turns examples in docstrings and text files into test cases for the Python runner."""

from __future__ import annotations

import doctest
import os
import re
import traceback
import unittest
from typing import Any, Dict, List, Optional, Tuple

from wolfbane.kinds.python.worker.loaded_test import LoadedTest
from wolfbane.kinds.python.worker.loading import TestLoader, import_file
from wolfbane.kinds.python.worker.runner import serve
from wolfbane.kinds.worker.located_error import ExampleFailed, MalformedExamples

WHOLE_MODULE = "(module)"
_LINE_OF = re.compile(r"line (\d+) of the docstring for \S+ ")
"""The first words of the standard library parser's message."""


class _Malformed(doctest.DocTest):
    """A text whose examples cannot be parsed. It takes their place, so the others still run."""

    problem: ValueError = ValueError()

    def error(self) -> MalformedExamples:
        """The error, with its line in the file."""
        text = str(self.problem)
        match = _LINE_OF.match(text)
        line = (self.lineno or 0) + (int(match[1]) if match else 1)
        if match:
            message = text[match.end() :]
        else:
            message = text
        return MalformedExamples(message, (str(self.filename), line))


class _ExampleParser(doctest.DocTestParser):
    """Reads examples; a malformed text becomes a test that reports this."""

    def get_doctest(
        self,
        string: str,
        globs: Dict[str, Any],
        name: str,
        filename: Optional[str],
        lineno: Optional[int],
    ) -> doctest.DocTest:
        try:
            return super().get_doctest(string, globs, name, filename=filename, lineno=lineno)
        except ValueError as error:
            made = _Malformed([], globs, name, filename, lineno, string)
            made.problem = error
            return made


class ExamplesTest(unittest.TestCase):
    """The examples of one docstring or file; each is a part."""

    def __init__(self, examples: doctest.DocTest, name: str, flags: int) -> None:
        super().__init__("run_examples")
        self.examples, self.name, self.flags = examples, name, flags

    def id(self) -> str:
        """The name for reporting results."""
        return self.name

    def run_examples(self) -> None:
        """Run every example in turn, in one namespace, and report each."""
        if isinstance(self.examples, _Malformed):
            raise self.examples.error()
        runner = _Runner(optionflags=self.flags, verbose=False)
        runner.run(self.examples, out=_swallow, clear_globs=False)
        for example, message in runner.examples_run:
            with self.subTest(example.source.strip().replace("\n", " ")):
                if message is not None:
                    line = (self.examples.lineno or 0) + example.lineno + 1
                    raise ExampleFailed(message, (str(self.examples.filename), line))


class _Runner(doctest.DocTestRunner):
    """Records the result of each example instead of printing it."""

    def __init__(self, **options: Any) -> None:
        super().__init__(**options)
        self.examples_run: List[Tuple[doctest.Example, Optional[str]]] = []

    def report_start(self, out: Any, test: Any, example: Any) -> None:
        pass

    def report_success(self, out: Any, test: Any, example: Any, got: str) -> None:
        self.examples_run.append((example, None))

    def report_failure(self, out: Any, test: Any, example: Any, got: str) -> None:
        self.examples_run.append((example, _difference(example, got)))

    def report_unexpected_exception(self, out: Any, test: Any, example: Any, exc_info: Any) -> None:
        raised = "".join(traceback.format_exception_only(exc_info[0], exc_info[1])).strip()
        self.examples_run.append((example, _difference(example, f"raised {raised}\n")))


class ExampleLibrary(TestLoader):
    """Finds docstrings with examples in modules, and takes a text file as one test."""

    def __init__(self, root: str, options: Dict[str, Any]) -> None:
        super().__init__(root, options)
        self.flags = 0
        for name in options.get("options", []):
            self.flags |= doctest.OPTIONFLAGS_BY_NAME[name]

    def _load(self, path: str) -> Dict[str, LoadedTest]:
        file = os.path.join(self.root, path)
        top = self.use(path)
        self.divisible[path] = self.divides_files
        if path.endswith(".py"):
            return self._in_module(file, top)
        with open(file, encoding="utf-8") as source:
            text = source.read()
        if path.endswith(".md"):  # a closing fence is not what an example prints
            text = re.sub(r"(?m)^[ \t]*(?:```|~~~).*$", "", text)
        test = _ExampleParser().get_doctest(
            text, {"__name__": "__main__"}, path, filename=file, lineno=0
        )
        if _holds_any(test):
            return {"": self._made(test, "")}
        return {}

    def _in_module(self, file: str, top: str) -> Dict[str, LoadedTest]:
        module = import_file(file, top)
        finder = doctest.DocTestFinder(parser=_ExampleParser(), exclude_empty=True)
        tests = {}
        for test in sorted(finder.find(module)):
            if _holds_any(test):
                inner = test.name[len(module.__name__) + 1 :]
                test.filename = file
                if inner:
                    name = " / ".join(inner.split("."))
                else:
                    name = WHOLE_MODULE
                tests[name] = self._made(test, name)
        return tests

    def _made(self, test: doctest.DocTest, name: str) -> LoadedTest:
        loaded = LoadedTest(ExamplesTest(test, name, self.flags), name, str(test.filename))
        loaded.group = name
        loaded.line = (test.lineno or 0) + 1
        return loaded


def _holds_any(test: doctest.DocTest) -> bool:
    return bool(test.examples) or isinstance(test, _Malformed)


def _difference(example: doctest.Example, got: str) -> str:
    lines = [f"example: {example.source.strip()}"]
    lines += [f"- {line}" for line in (example.want or "(nothing)\n").splitlines()]
    lines += [f"+ {line}" for line in (got or "(nothing)\n").splitlines()]
    return "\n".join(lines)


def _swallow(text: str) -> None:
    """Drop the output of the runner: Wolfbane writes its own messages."""


def main() -> None:
    """Serve requests about examples."""
    serve(ExampleLibrary)
