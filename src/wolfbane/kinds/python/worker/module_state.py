"""Puts back what the tests of one file changed in modules, before the tests of the next file.

The files of a suite share a process, so a function that one file replaces in a module would stay
replaced for the others, and their outcomes would depend on which worker gets which files.
"""

from __future__ import annotations

import operator
import os
import sys
from types import BuiltinFunctionType, FunctionType, ModuleType

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any, Iterator, List, Tuple

_CODE = (FunctionType, BuiltinFunctionType, type, ModuleType)
_PLAIN = (bool, str, bytes, float, tuple, frozenset)
"""Settings of a module. Whole numbers often count what a module keeps elsewhere, and ``None`` often
becomes an object at the first use: both stay.
"""
_OTHERS = frozenset({"builtins", "time", "sys", "__main__", "warnings"})
"""Checked after each test, or the runner's own affair."""
_MISSING = object()


class ModuleState:
    """The attributes of all modules at one moment."""

    def __init__(self, root: str, own: str) -> None:
        """``own`` is the file whose tests follow: the attributes of its module are its own."""
        self._root, self._own = os.path.realpath(root) + os.sep, own
        self._before = {
            name: (module, dict(module.__dict__))
            for name, module in list(sys.modules.items())
            if type(module) is ModuleType and name not in _OTHERS
        }

    def restore(self) -> List[str]:
        """Put back what has changed; returns the names of these attributes, sorted.

        Functions, classes and modules are put back wherever they were replaced or removed; plain
        values only in modules of the workspace.
        """
        changed = []
        for module, name, value in self._changes():
            try:
                setattr(module, name, value)
            except Exception:  # a module may refuse
                continue
            changed.append(f"{module.__name__}.{name}")
        return sorted(changed)

    def _changes(self) -> Iterator[Tuple[ModuleType, str, Any]]:
        for key, (module, before) in self._before.items():
            now = module.__dict__
            # Almost all modules are as before: no look at each name.
            if len(now) == len(before) and all(map(operator.is_, now.values(), before.values())):
                continue
            file = before.get("__file__")
            if sys.modules.get(key) is not module or file == self._own:
                continue
            ours = isinstance(file, str) and os.path.realpath(file).startswith(self._root)
            for name, value in before.items():
                current = now.get(name, _MISSING)
                if current is not value and _is_restored(value, current, ours):
                    yield module, name, value


def _is_restored(before: Any, now: Any, ours: bool) -> bool:
    if isinstance(before, _CODE):
        return True
    return ours and isinstance(before, _PLAIN) and (now is _MISSING or type(now) is type(before))
