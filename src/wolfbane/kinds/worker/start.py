"""Starts a worker for suites whose tests are Python.

Run as a script by the suite's own interpreter, 3.8 or later, with the module whose ``main`` is the
worker. Nothing needs to be installed there.
"""

from __future__ import annotations

import os
import sys

TYPE_CHECKING = False  # type checkers take it for true; to import typing takes a while
if TYPE_CHECKING:
    from typing import Any

_OWN = os.path.dirname(os.path.abspath(__file__))
_HOME = os.path.dirname(os.path.dirname(os.path.dirname(_OWN)))
"""The folder that contains the package."""


def borrow(module: str) -> Any:
    """Import a worker without any trace that the suite's code could see.

    The folder is added at the end of the import path, so it hides nothing. The path and the module
    table are restored before the suite's own code starts. Only the modules that the kind needs are
    imported, because imports take most of the time of a small run.
    """
    sys.path[:] = [path for path in sys.path if path != _OWN]
    sys.path.append(_HOME)
    main = __import__(module, fromlist=["main"]).main
    sys.path.pop()
    for name in [name for name in sys.modules if name.partition(".")[0] == "wolfbane"]:
        del sys.modules[name]
    return main


if __name__ == "__main__":
    main = borrow(sys.argv[1])
    sys.modules["__main__"] = type(sys)("__main__")
    main()
