"""Imports each file of the steps folders once, and makes its assertions show their values."""

from __future__ import annotations

import importlib
import importlib.machinery
import importlib.util
import os
import sys
from typing import Any, List, Optional

from wolfbane.kinds.python.worker.asserts import compile_explained


def load_steps(folders: List[str]) -> None:
    """Import the files of these folders and their subfolders. Raises all exceptions of the files.

    They can import each other as modules, because a folder of steps is on the import path.
    """
    inside = tuple(os.path.join(folder, "") for folder in folders)
    details = (_Explained, importlib.machinery.SOURCE_SUFFIXES)
    make_finder = importlib.machinery.FileFinder.path_hook(details)

    def finder(path: str) -> Any:
        if not os.path.join(path, "").startswith(inside):
            raise ImportError("the file defines no steps", path=path)
        return make_finder(path)

    sys.path_hooks.insert(0, finder)
    for folder in folders:
        sys.path_importer_cache.pop(folder, None)
        for name in step_files(folder):
            _load(folder, name)


def step_files(folder: str) -> List[str]:
    """The Python files below a folder, relative to it, in order."""
    result = []
    for parent, folders, files in os.walk(folder):
        folders[:] = [n for n in folders if not n.startswith(".") and n != "__pycache__"]
        inner = os.path.relpath(parent, folder)
        names = [name for name in files if name.endswith(".py") and not name.startswith(".")]
        result += [os.path.normpath(os.path.join(inner, name)) for name in names]
    return sorted(result)


def _load(folder: str, name: str) -> None:
    """Import a file by its dotted name, or, if that name means another file, by a private name."""
    path = os.path.join(folder, name)
    parts = name[: -len(".py")].split(os.sep)
    if parts[-1] == "__init__":
        parts.pop()
    if not parts:
        return
    dotted = ".".join(parts)
    if all(part.isidentifier() for part in parts) and _origin(dotted) == path:
        importlib.import_module(dotted)
        return
    own = f"steps:{path}"
    loader = _Explained(own, path)
    spec = importlib.util.spec_from_file_location(own, path, loader=loader)
    assert spec is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[own] = module
    loader.exec_module(module)


def _origin(dotted: str) -> Optional[str]:
    """The file that a dotted name means."""
    if dotted in sys.modules:
        return getattr(sys.modules[dotted], "__file__", None)
    try:
        spec = importlib.util.find_spec(dotted)
    except ImportError:  # a name before the last dot means something else
        return None
    if spec:
        return spec.origin
    return None


class _Explained(importlib.machinery.SourceFileLoader):
    """Compiles asserts so that failures show their values. Nothing is cached."""

    def get_code(self, fullname: str) -> Any:
        path = self.get_filename(fullname)
        return compile_explained(self.get_data(path), path)
