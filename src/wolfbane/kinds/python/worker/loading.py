"""Imports test files and finds their tests, like the standard library's loader."""

from __future__ import annotations

import fnmatch
import importlib
import os
import sys
import unittest
from types import ModuleType

from wolfbane.kinds.python.worker.asserts import install_loader
from wolfbane.kinds.python.worker.loaded_test import (
    FunctionTest,
    LoadedTest,
    named_tests,
    plain_functions,
)

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any, Dict, Iterable, Iterator, List, Optional, Set


_PACKAGE_TESTS = "test*.py"
"""The files that the standard library's discovery looks for in a package."""


class _Loader(unittest.TestLoader):
    """Stamps each test with the file of the module it was loaded from."""

    def loadTestsFromModule(self, module: ModuleType, *args: Any, **options: Any) -> Any:
        suite = super().loadTestsFromModule(module, *args, **options)
        file = getattr(module, "__file__", None)
        path = None
        if file:
            path = os.path.abspath(file)
        for case in cases_in(suite):
            if not hasattr(case, "wolfbane_file"):
                _stamp(case, path)
        return suite


class TestLoader:
    """Loads files on demand and returns each test once by its address."""

    def __init__(self, root: str, options: Dict[str, Any]) -> None:
        self.root = root
        self.top = os.path.join(root, options["top"]) if options.get("top") else ""
        self.paths = [os.path.join(root, path) for path in options.get("import_path", [])]
        self.folders = [os.path.join(root, path) for path in options.get("folders", [])]
        self.loader = _Loader()
        self.loader.suiteClass = unittest.TestSuite
        self.divides_files = options.get("divide_files", False)
        self._packages: Dict[str, List[unittest.TestCase]] = {}
        self._found: Dict[str, Dict[str, LoadedTest]] = {}
        self.divisible: Dict[str, bool] = {}
        self._started_in = os.getcwd()

    def use(self, path: str) -> str:
        """Put the folder for a file's imports first on the import path; returns its top folder.

        Entries that the suite's own code has added to the path stay there.
        """
        top = self.top or _top_folder(self.root, os.path.dirname(path))
        order = [*self.paths, top, self._started_in, *sys.path, *self.folders]
        known: Set[str] = set()
        sys.path[:] = [p for p in order if not (p in known or known.add(p))]  # type: ignore[func-returns-value]
        return top

    def tests(self, path: str) -> Dict[str, LoadedTest]:
        """The tests of a file by name. Raises all exceptions of the import."""
        if path not in self._found:
            self._found[path] = self._load(path)
        return self._found[path]

    def sources(self, cases: Iterable[unittest.TestCase]) -> List[str]:
        """The files of the workspace that define the classes of these tests, bases included."""
        classes = {base for kind in {type(case) for case in cases} for base in kind.__mro__}
        modules = (sys.modules.get(base.__module__) for base in classes)
        files = {getattr(module, "__file__", None) for module in modules}
        inside = [os.path.relpath(file, self.root) for file in files if file]
        return sorted(path for path in inside if not path.startswith(os.pardir))

    def take(self, path: str, name: str) -> Optional[LoadedTest]:
        """One test, returned once, so that its memory is free after it ran."""
        test = self.tests(path).pop(name, None)
        if test is None:
            del self._found[path]
            test = self.tests(path).pop(name, None)
        return test

    def _load(self, path: str) -> Dict[str, LoadedTest]:
        file = os.path.join(self.root, path)
        top = self.use(path)
        module = import_file(file, top)
        package = self._loading_package(module, top)
        if package is None:
            cases = list(cases_in(self.loader.loadTestsFromModule(module)))
            _raise_of_load_tests(cases, module)
        else:
            cases = [c for c in self._package_cases(package) if _belongs(c, file, package)]
        own_load = hasattr(module, "load_tests")
        if not own_load:
            cases += [FunctionTest(function) for function in plain_functions(module)]
        hooks = any(hasattr(module, hook) for hook in ("setUpModule", "tearDownModule"))
        self.divisible[path] = self.divides_files and not (hooks or own_load or package)
        return named_tests(cases, file)

    def _loading_package(self, module: ModuleType, top: str) -> Optional[ModuleType]:
        """The outermost package around a module whose ``load_tests`` decides its tests."""
        parts = module.__name__.split(".")
        is_package = hasattr(module, "__path__")
        for depth in range(1, len(parts) + (1 if is_package else 0)):
            package = sys.modules.get(".".join(parts[:depth]))
            if package is not None and hasattr(package, "load_tests"):
                return package
        return None

    def _package_cases(self, package: ModuleType) -> List[unittest.TestCase]:
        name = package.__name__
        if name not in self._packages:
            suite = self.loader.loadTestsFromModule(package, pattern=_PACKAGE_TESTS)
            self._packages[name] = [case for case in cases_in(suite) if not _is_stand_in(case)]
        return self._packages[name]


def cases_in(suite: Any) -> Iterator[Any]:
    """Every test case inside nested suites, in order."""
    if isinstance(suite, unittest.TestCase):  # as almost all are: no look for members
        yield suite
        return
    try:
        members = iter(suite)
    except TypeError:
        yield suite
        return
    for member in members:
        yield from cases_in(member)


def _belongs(case: Any, file: str, package: ModuleType) -> bool:
    """Whether a case made by a package's ``load_tests`` is listed under ``file``."""
    home = getattr(case, "wolfbane_file", None)
    own = os.path.abspath(str(package.__file__))
    if home is None or home == own:
        module = sys.modules.get(type(case).__module__)
        home = os.path.abspath(getattr(module, "__file__", None) or own)
        inside = home.startswith(os.path.dirname(own) + os.sep)
        home = home if inside and isinstance(case, unittest.TestCase) else own
    return bool(home == os.path.abspath(file))


def _is_stand_in(case: Any) -> bool:
    """Whether a case stands for a test file that did not load: the file reports that itself."""
    if type(case).__module__ != "unittest.loader":
        return False
    name = str(getattr(case, "_testMethodName", "")).rpartition(".")[2]
    return fnmatch.fnmatchcase(f"{name}.py", _PACKAGE_TESTS)


def _raise_of_load_tests(cases: Iterable[Any], module: ModuleType) -> None:
    """Raise the error of a module's ``load_tests``: the standard library wraps it in a case."""
    for case in cases:
        if type(case).__module__ == "unittest.loader" and case._testMethodName == module.__name__:
            raise case._exception


def _stamp(case: Any, file: Optional[str]) -> None:
    try:
        case.wolfbane_file = file
    except AttributeError:
        pass


def _top_folder(root: str, folder: str) -> str:
    """The folder at which the module names of a folder's files start.

    A package without ``__init__.py`` may be around those with one. In a project with a folder for
    its sources, names start there.
    """
    parts = [part for part in folder.split("/") if part not in ("", ".")]
    top = len(parts)
    while top and os.path.isfile(os.path.join(root, *parts[:top], "__init__.py")):
        top -= 1
    if top < len(parts) and "src" in parts[:top]:
        top = parts.index("src") + 1
    return os.path.join(root, *parts[:top])


def _module_name(file: str, top: str) -> str:
    parts = os.path.relpath(file, top)[: -len(".py")].split(os.sep)
    if parts[-1] == "__init__" and len(parts) > 1:
        parts.pop()
    return ".".join(parts)


def import_file(file: str, top: str) -> ModuleType:
    """Import the module from exactly this file, even if another module has taken its name."""
    name = _module_name(file, top)
    known = sys.modules.get(name)
    if known is not None and not _same_file(known, file):
        del sys.modules[name]
    install_loader(file)
    module = importlib.import_module(name)
    if not _same_file(module, file):
        where = getattr(module, "__file__", None) or "the interpreter itself"
        raise ImportError(
            f"importing '{name}' loaded {where} instead; rename the file, or set the suite's 'top'"
        )
    return module


def _same_file(module: ModuleType, file: str) -> bool:
    own = getattr(module, "__file__", None)
    return bool(own) and os.path.realpath(str(own)) == os.path.realpath(file)
