"""The worker for suites whose tests are Python: kinds ``python``, ``doctest`` and ``scenario``.

Started as a script by the suite's own interpreter, 3.8 or later; nothing is installed there.
"""

import os
import sys

HOME = os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__))))


def borrow() -> None:
    """Import the sibling modules without leaving a trace that the suite's code could see.

    The folder goes to the end of the import path, so it can shadow nothing, and both the path
    and the module table are as before when the suite's own code starts.
    """
    own = os.path.dirname(os.path.abspath(__file__))
    sys.path[:] = [path for path in sys.path if path != own]
    sys.path.append(HOME)
    # Only what the kind needs is imported: this is most of the time of a small run.
    if sys.argv[1:] == ["scenario"]:
        from wolfbane.workers.scenarios import main as run
    elif sys.argv[1:] == ["doctest"]:
        from wolfbane.workers.examples import run
    else:
        from wolfbane.workers.python_runner import main as run

    globals()["main"] = run
    sys.path.pop()
    for name in [name for name in sys.modules if name.partition(".")[0] == "wolfbane"]:
        del sys.modules[name]


if __name__ == "__main__":
    borrow()
    sys.modules["__main__"] = type(sys)("__main__")
    main()  # type: ignore[name-defined]  # noqa: F821
