"""Copies the sample workspace to a folder of the user."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

from wolfbane.errors import InputError, Problem
from wolfbane.workspace.git import git_command

HARBOUR = Path(__file__).parent / "harbour"
OLDER, NEWER = "v1.3.0", "v1.4.0"
"""The versions of the booking service, as git revisions: staging has the older one."""
_SINCE_NEWER = "workflows/refunds.arazzo.yaml"
_IGNORED = "__pycache__/\n.wolfbane/\ncrate/target/\ncrate/Cargo.lock\n"


def copy_harbour(target: Path) -> Path:
    """Copy the harbour into ``target``, which must be empty. Raises InputError.

    If git is installed, the copy is a repository with two versions.
    """
    if target.exists() and (not target.is_dir() or any(target.iterdir())):
        raise InputError(
            Problem("the folder is not empty; the demo does not overwrite files", str(target))
        )
    try:
        shutil.copytree(
            HARBOUR, target, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__")
        )
        for script in (target / "quay" / "t").iterdir():
            script.chmod(0o755)
        if shutil.which("git"):
            _make_history(target)
    except (OSError, subprocess.CalledProcessError) as error:
        raise InputError(Problem(f"cannot copy the demo: {error}", str(target))) from None
    return target


def _make_history(target: Path) -> None:
    """Two commits with tags: the harbour before the service had refunds, and the current one."""
    newer, local = target / _SINCE_NEWER, target / "booking" / "local.json"
    texts = {path: path.read_text(encoding="utf-8") for path in (newer, local)}
    (target / ".gitignore").write_text(_IGNORED, encoding="utf-8")
    newer.unlink()
    older = (
        texts[local].replace('"1.4.0"', '"1.3.0"').replace('"refunds": true', '"refunds": false')
    )
    local.write_text(older, encoding="utf-8")
    _git(target, "init", "--quiet", "--initial-branch=main")
    _commit(target, "Berths, bookings and tides", OLDER)
    for path, text in texts.items():
        path.write_text(text, encoding="utf-8")
    _commit(target, "Refunds for cancelled bookings", NEWER)


def _commit(target: Path, message: str, tag: str) -> None:
    _git(target, "add", "--all")
    who = ("-c", "user.name=Saltmarsh Harbour", "-c", "user.email=quay@harbour.example")
    _git(target, *who, "-c", "commit.gpgSign=false", "commit", "--quiet", "--message", message)
    _git(target, "tag", "--no-sign", tag)


def _git(target: Path, *arguments: str) -> None:
    command, variables = git_command(target, *arguments)
    subprocess.run(command, env=variables, check=True, capture_output=True)
