"""Runs the git program, and asks it which files differ from a revision."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Sequence
from pathlib import Path

import msgspec

from wolfbane.errors import InputError, Problem, did_you_mean

_OF_A_HOOK = (
    "GIT_DIR",
    "GIT_WORK_TREE",
    "GIT_INDEX_FILE",
    "GIT_OBJECT_DIRECTORY",
    "GIT_COMMON_DIR",
    "GIT_PREFIX",
    "GIT_NAMESPACE",
)
"""Variables that git sets for its hooks. They would direct every call to the hook's own index."""
_QUIET = (
    "-c",
    "core.hooksPath=/dev/null",
    "-c",
    "core.fsmonitor=false",
    "-c",
    "log.showSignature=false",
    "-c",
    "advice.detachedHead=false",
)
"""A repository may be from a stranger, and its settings may name programs. None of them starts."""
_FILTERS = ("config", "--show-scope", "--null", "--name-only", "--get-regexp", r"^filter\.")
_OF_REPOSITORY = ("local", "worktree")


_PATIENCE = 120.0
"""Seconds for git to answer: a repository may be on a network, or wait for a lock."""


class GitAnswer(msgspec.Struct, frozen=True):
    """The output of git, and its exit code."""

    code: int
    output: str
    error: str

    @property
    def reason(self) -> str:
        """The reason for a failure: the last line of git, without its own prefix."""
        lines = [line for line in self.error.strip().splitlines() if line.strip()]
        fatal = [line for line in lines if line.startswith(("fatal: ", "error: "))]
        last = (fatal or lines or [f"git ended with exit code {self.code}"])[-1]
        return last.removeprefix("fatal: ").removeprefix("error: ")


def git_command(
    root: Path, *arguments: str, compares: bool = False
) -> tuple[list[str], dict[str, str]]:
    """The command line and the variables of a git call. No hooks run, and git never prompts.

    ``compares``: git reads or writes files of the workspace, but not with a repository's filters.
    """
    variables = {name: value for name, value in os.environ.items() if name not in _OF_A_HOOK}
    # A lock on the user's index would get in the way of what the user does meanwhile.
    quiet = {"GIT_TERMINAL_PROMPT": "0", "GIT_OPTIONAL_LOCKS": "0", "LC_ALL": "C.UTF-8"}
    if compares:
        off = _without_filters(root)
    else:
        off = {}
    return ["git", *_QUIET, "-C", str(root), *arguments], {**variables, **quiet, **off}


def ask_git(
    root: Path, *arguments: str, within: float = _PATIENCE, compares: bool = False
) -> GitAnswer:
    """Run git in a folder. If it cannot start or takes too long, the code is 127."""
    command, variables = git_command(root, *arguments, compares=compares)
    try:
        done = subprocess.run(
            command,
            env=variables,
            capture_output=True,
            stdin=subprocess.DEVNULL,
            timeout=within,
            check=False,
        )
    except OSError as error:
        return GitAnswer(127, "", f"cannot start git: {error}")
    except subprocess.TimeoutExpired:
        return GitAnswer(127, "", f"git did not finish within {within:g} s")
    output, error_text = (
        stream.decode("utf-8", "surrogateescape") for stream in (done.stdout, done.stderr)
    )
    return GitAnswer(done.returncode, output, error_text)


def _without_filters(root: Path) -> dict[str, str]:
    """Variables that turn off the filters from a repository's settings.

    Filters from the user's own settings stay. An option could not name a filter with ``=`` in it.
    """
    names = ask_git(root, *_FILTERS).output.split("\0")
    filters = {
        k.rpartition(".")[0] for scope, k in zip(names[::2], names[1::2]) if scope in _OF_REPOSITORY
    }
    off = [
        (f"{name}.{key}", "") for name in sorted(filters) for key in ("clean", "smudge", "process")
    ]
    off += [(f"{name}.required", "false") for name in sorted(filters)]
    count = int(os.environ.get("GIT_CONFIG_COUNT") or 0)
    variables = {"GIT_CONFIG_COUNT": str(count + len(off))}
    for number, (key, value) in enumerate(off, count):
        variables[f"GIT_CONFIG_KEY_{number}"] = key
        variables[f"GIT_CONFIG_VALUE_{number}"] = value
    if off:
        return variables
    return {}


def repository(root: Path, why: str) -> tuple[Path, str]:
    """The folder of the repository around ``root``, and the path from there to ``root``.

    ``why`` is the start of the message of the InputError, if there is no git or no repository.
    """
    answer = ask_git(root, "rev-parse", "--show-toplevel", "--show-prefix")
    if answer.code:
        if "not a git repository" in answer.error:
            raise InputError(Problem(f"{why}: {root} is not in a git repository"))
        raise InputError(Problem(f"{why}: {answer.reason}"))
    top, prefix = answer.output.split("\n")[:2]
    return Path(top), prefix.rstrip("/")


SHORT = 10
"""Characters of a hash for display."""


def shown_revision(revision: str, commit: str) -> str:
    """A revision for display: its name, or the start of a hash."""
    if revision == commit:
        return f"commit {commit[:SHORT]}"
    return revision


def find_commit(root: Path, revision: str) -> str:
    """The full hash of a revision's commit; empty if git does not know the revision."""
    wanted = f"{revision}^{{commit}}"
    answer = ask_git(root, "rev-parse", "--verify", "--quiet", "--end-of-options", wanted)
    if answer.code == 0:
        return answer.output.strip()
    return ""


def commit_of(root: Path, revision: str, why: str) -> str:
    """The full hash of a revision's commit. Raises InputError with the nearest names."""
    if commit := find_commit(root, revision):
        return commit
    repository(root, why)
    hint = did_you_mean(revision, revision_names(root))
    if ask_git(root, "rev-parse", "--is-shallow-repository").output.strip() == "true":
        hint = "this clone is shallow; 'git fetch --unshallow --tags' fetches the full history"
    raise InputError(Problem(f"{why}: git cannot find this revision", hint=hint))


def revision_names(root: Path) -> Sequence[str]:
    """Branches and tags; none if there is no git or no repository."""
    return ask_git(root, "for-each-ref", "--format=%(refname:short)").output.split()


def changed_paths(root: Path, revision: str) -> set[str]:
    """The paths below ``root`` that differ from a revision, including new and removed ones.

    Raises InputError if there is no git, no repository or no such revision.
    """
    why = f"changed:{revision}"
    commit_of(root, revision, why)
    paths: set[str] = set()
    names = ("--name-only", "-z", "--no-renames", "--relative")
    for question in (
        ("diff", "--no-ext-diff", *names, revision, "--"),
        ("ls-files", "--others", "--exclude-standard", "-z"),
    ):
        answer = ask_git(root, *question, compares=question[0] == "diff")
        if answer.code:
            raise InputError(Problem(f"{why}: {answer.reason}"))
        paths.update(answer.output.split("\0"))
    return paths - {""}
