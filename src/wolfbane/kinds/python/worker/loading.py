"""Imports test files and finds their tests, like the standard library's loader."""

from __future__ import annotations

import functools
import importlib
import inspect
import os
import sys
import unittest
from types import ModuleType

from wolfbane.kinds.python.worker.asserts import install_loader

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any, Callable, Dict, Iterable, Iterator, List, Optional, Set


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


class _Loader(unittest.TestLoader):
    """Stamps each test with the file of the module it was loaded from."""

    def loadTestsFromModule(self, module: ModuleType, *args: Any, **options: Any) -> Any:
        suite = super().loadTestsFromModule(module, *args, **options)
        file = getattr(module, "__file__", None)
        place = os.path.abspath(file) if file else None
        for case in cases_in(suite):
            if not hasattr(case, "wolfbane_file"):
                _stamp(case, place)
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
        self._packages: Dict[str, List[unittest.TestCase]] = {}
        self._found: Dict[str, Dict[str, LoadedTest]] = {}
        self.divisible: Dict[str, bool] = {}
        self._started_in = os.getcwd()

    def use(self, path: str) -> str:
        """Put the folder for a file's imports first on the import path; returns its top folder.

        Entries that the suite's own code has added to the path stay there.
        """
        top = self.top or _top_folder(os.path.dirname(os.path.join(self.root, path)))
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
        found = self.tests(path).pop(name, None)
        if found is None:
            del self._found[path]
            found = self.tests(path).pop(name, None)
        return found

    def _load(self, path: str) -> Dict[str, LoadedTest]:
        file = os.path.join(self.root, path)
        top = self.use(path)
        module = import_file(file, top)
        package = self._loading_package(module, top)
        if package is None:
            cases = list(cases_in(self.loader.loadTestsFromModule(module)))
        else:
            cases = [c for c in self._package_cases(package) if _belongs(c, file, package)]
        own_load = hasattr(module, "load_tests")
        if not own_load:
            cases += [FunctionTest(function) for function in _plain_functions(module)]
        hooks = any(hasattr(module, hook) for hook in ("setUpModule", "tearDownModule"))
        self.divisible[path] = not (hooks or own_load or package)
        return _named(cases, file)

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
            suite = self.loader.loadTestsFromModule(package, pattern="test*.py")
            self._packages[name] = list(cases_in(suite))
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


def _stamp(case: Any, file: Optional[str]) -> None:
    try:
        case.wolfbane_file = file
    except AttributeError:
        pass


def _top_folder(folder: str) -> str:
    while os.path.isfile(os.path.join(folder, "__init__.py")):
        folder = os.path.dirname(folder)
    return folder


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


def _plain_functions(module: ModuleType) -> List[Callable[[], Any]]:
    return [
        value
        for name, value in vars(module).items()
        if name.startswith("test_")
        and inspect.isfunction(value)
        and value.__module__ == module.__name__
    ]


def _named(cases: List[Any], file: str) -> Dict[str, LoadedTest]:
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
    if method and method != "runTest" and hasattr(type(case), method):
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
        return sorted(str(tag) for tag in tags) if isinstance(tags, (set, frozenset)) else [
            str(tag) for tag in tags
        ]  # fmt: skip
    return []


def _wanted_arguments(case: Any) -> str:
    """The reason why a function cannot be called, or an empty text."""
    if not isinstance(case, FunctionTest):
        return ""
    wanted = [
        parameter.name
        for parameter in inspect.signature(case.function, follow_wrapped=False).parameters.values()
        if parameter.default is parameter.empty
        and parameter.kind not in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD)
    ]
    if not wanted:
        return ""
    return (
        f"the function has parameters ({', '.join(wanted)}), "
        f"but plain test functions get no arguments"
    )
