"""What suites of Python code have in common: interpreter, worker, source."""

from __future__ import annotations

import ast
import os
import shutil
import subprocess
import sys
import warnings
from functools import cache
from pathlib import Path

from wolfbane.engines.contract import WORKERS, Missing, WorkerCommand
from wolfbane.workspace.settings import Suite


def parse_source(source: bytes) -> ast.Module:
    """A module's syntax tree, quietly. Raises SyntaxError or ValueError."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return ast.parse(source)


def python_worker(root: Path, suite: Suite) -> WorkerCommand:
    """How to start the worker for Python. Raises Missing."""
    options = {
        "kind": suite.kind,
        "top": suite.top,
        "import_path": suite.import_path,
        "folders": [path for path in suite.paths if (root / path).is_dir()],
        "options": suite.options,
    }
    command = [interpreter(root, suite), str(WORKERS / "python.py"), suite.kind]
    return WorkerCommand(command, root / suite.folder, options)


def interpreter(root: Path, suite: Suite) -> str:
    """The interpreter that a suite runs on. Raises Missing."""
    if not suite.python:
        return _default(root)
    local = root / suite.python
    found = str(local) if local.exists() else shutil.which(suite.python)
    if not found:
        raise Missing(f"there is no Python interpreter '{suite.python}'")
    return found


def _default(root: Path) -> str:
    """The active virtual environment's, else that of the workspace's ``.venv``, else our own."""
    for place in (os.environ.get("VIRTUAL_ENV"), root / ".venv"):
        if place and (python := Path(place) / "bin" / "python").exists():
            return str(python)
    return sys.executable


@cache
def version(python: str) -> str:
    """``Python 3.11.7``, as the interpreter says it. Raises Missing where it does not start."""
    code = "import platform; print('Python ' + platform.python_version())"
    try:
        run = subprocess.run(
            [python, "-S", "-E", "-c", code],
            capture_output=True,
            text=True,
            timeout=30,
            check=True,
        )
    except (OSError, subprocess.SubprocessError) as error:
        raise Missing(f"the Python interpreter '{python}' does not start: {error}") from None
    return run.stdout.strip()
