"""Common code of all suites of Python code: interpreter, worker, source."""

from __future__ import annotations

import ast
import os
import shutil
import subprocess
import sys
import warnings
from functools import cache
from pathlib import Path

from wolfbane.basis.inspection import may_start, neutral_folder
from wolfbane.kinds.contract import HOME, MissingRuntime, NotStarted, WorkerCommand
from wolfbane.kinds.python.project import project_python
from wolfbane.kinds.python.settings import InterpretedSuite


def parse_source(source: bytes) -> ast.Module:
    """A module's syntax tree, without warnings. Raises SyntaxError or ValueError."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return ast.parse(source)


def python_worker(root: Path, suite: InterpretedSuite, module: str) -> WorkerCommand:
    """The command for a Python worker that runs one of Wolfbane's modules.

    Raises MissingRuntime.
    """
    options = {
        "top": suite.modules_from,
        "divide_files": suite.divides_files,
        "import_path": suite.import_path,
        "folders": [path for path in suite.paths if (root / path).is_dir()],
    }
    command = [
        interpreter(root, suite),
        *suite.python_options,
        str(HOME / "worker" / "start.py"),
        module,
    ]
    return WorkerCommand(command, root / suite.folder, options)


def interpreter(root: Path, suite: InterpretedSuite) -> str:
    """The interpreter of a suite. Raises MissingRuntime."""
    return _itself(_named(root, suite), root / suite.folder)


def default_interpreter(root: Path, folder: str) -> str:
    """The interpreter for Python in a folder whose settings define none."""
    return _itself(_default(root, folder), root / folder)


def runtime(root: Path, suite: InterpretedSuite) -> str:
    """``Python 3.11.7 (/usr/bin/python3)``. Raises MissingRuntime if it does not start.

    The path is relative to the workspace if it is inside, and starts with ``~`` if it is in the
    home folder.
    """
    version, python = _ask(_named(root, suite), root / suite.folder)
    inside = python.removeprefix(f"{root}/")
    home = f"{Path.home()}/"
    if inside.startswith(home):
        shown = f"~/{inside.removeprefix(home)}"
    else:
        shown = inside
    return f"Python {version} ({shown})"


def _named(root: Path, suite: InterpretedSuite) -> str:
    """The program from the settings, or the default. Raises MissingRuntime."""
    if not suite.python:
        return _default(root, suite.folder)
    local = root / suite.python
    program = str(local) if local.exists() else shutil.which(suite.python)
    if not program:
        raise MissingRuntime(f"Python interpreter '{suite.python}' not found")
    return program


def _default(root: Path, folder: str) -> str:
    """The interpreter of the project's environment, of the active one, ``python3``, or Wolfbane's
    own as a last resort.

    Wolfbane's may have other versions of the modules that the suite imports.
    """
    if own := project_python(root, folder):
        return str(root / own)
    active = Path(os.environ.get("VIRTUAL_ENV") or "/nowhere") / "bin" / "python"
    if active.exists():
        return str(active)
    return shutil.which("python3") or sys.executable


@cache
def _itself(python: str, folder: Path) -> str:
    """The interpreter that a script, such as that of a version manager, starts in a folder."""
    with Path(python).open("rb") as file:
        is_script = file.read(2) == b"#!"
    if is_script:
        return _ask(python, folder)[1]
    return python


def _ask(python: str, folder: Path) -> tuple[str, str]:
    """The version of an interpreter, and its own path.

    Raises MissingRuntime if it does not start, and NotStarted if it must not start.
    """
    if not may_start(python):
        raise NotStarted(python)
    return _told(python, neutral_folder() or folder)


@cache
def _told(python: str, folder: Path) -> tuple[str, str]:
    if Path(python).is_absolute() and os.path.realpath(python) == os.path.realpath(sys.executable):
        return sys.version.split()[0], python  # ours, or another environment of the same one
    code = "import sys; print(sys.version.split()[0], sys.executable)"
    try:
        run = subprocess.run(
            [python, "-S", "-E", "-c", code],
            cwd=folder,
            capture_output=True,
            text=True,
            timeout=30,
            check=True,
        )
    except (OSError, subprocess.SubprocessError) as error:
        raise MissingRuntime(f"cannot start the Python interpreter '{python}': {error}") from None
    version, _, path = run.stdout.strip().partition(" ")
    return version, path or python
