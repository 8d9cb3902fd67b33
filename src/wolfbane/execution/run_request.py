"""How to run: one declaration for the command line, for embedding, and for the run itself.

A field with an option is all that a new option needs, besides the code that uses it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from random import SystemRandom
from types import MappingProxyType
from typing import Any, NamedTuple

from wolfbane.browsers.evidence_policy import FAILURES, KEPT
from wolfbane.cores import available_cores
from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.formats.registry import NAMES
from wolfbane.kinds.freshness import Freshness

ALWAYS, CHANGED, NEVER = "always", "changed", "never"
"""When suites are built."""
RUN, BROWSERS, REPORT, LOOK = "Run", "Browsers", "Report", "Only show"
"""The groups that help shows options in."""


class RunOption(NamedTuple):
    """How a field of :class:`RunRequest` is written on a command line.

    ``value`` names what the option takes. ``flags`` set the field to a value of theirs: each has a
    help text of its own.
    """

    group: str
    names: tuple[str, ...] = ()
    help: str = ""
    value: str = ""
    at_least: int | None = None
    choices: tuple[str, ...] = ()
    several: bool = False
    is_time: bool = False
    flags: Mapping[str, tuple[str, str]] = MappingProxyType({})


def option(group: str, *names: str, default: Any = None, **how: Any) -> Any:
    """A field of :class:`RunRequest` that has an option."""
    return field(default=default, metadata={"option": RunOption(group, names, **how)})


@dataclass(frozen=True)
class RunRequest:
    """How to run what is chosen. ``timeout`` is in seconds, and overrides every suite's own.

    ``command`` is the line that was typed; ``pointed`` holds those of its arguments that point
    another run at the same environments.
    """

    jobs: int | None = option(
        RUN, "-j", "--jobs", value="N", at_least=1, help="Workers at once. [default: cores]"
    )
    timeout: float | None = option(
        RUN, "--timeout", value="TIME", is_time=True, help="Limit for each test: 30s, 2m."
    )
    stop_after: int | None = option(
        RUN, "--stop-after", value="N", at_least=1, help="Stop after N failures."
    )
    run_time: float | None = option(
        RUN, "--run-time", value="TIME", is_time=True,
        help="Stop the run after this time: 20m. It fails if tests are left.",
    )  # fmt: skip
    retries: int | None = option(
        RUN, "--retries", value="N", at_least=0, help="Run failed tests again, at most N times."
    )
    retry_when: str = option(
        RUN, "--retry-when", choices=("after", "at-once"), default="after",
        help="Retry after all other tests, or as soon as their file is done.",
    )  # fmt: skip
    flaky_fails: bool = option(
        RUN, "--flaky-fails", default=False, help="Exit 1 if a test passed only when it ran again."
    )
    quarantine: str = option(
        RUN, "--quarantine", choices=("run", "skip"), default="run",
        help="Run quarantined tests (they do not fail the run), or leave them out.",
    )  # fmt: skip
    order: str = option(
        RUN, "--order", choices=("longest", "failed", "random"), default="longest",
        help="Longest file first, tests that failed last time first, or shuffled.",
    )  # fmt: skip
    seed: int | None = option(
        RUN, "--seed", value="N", help="The seed for the random order; each run prints its own."
    )
    no_focus: bool = option(
        RUN, "--no-focus", default=False,
        help="Fail if the source marks tests as the only ones to run, and run the others too.",
    )  # fmt: skip
    build: str = option(
        RUN, default=CHANGED,
        flags={
            "--rebuild": (ALWAYS, "Build suites again, changed or not."),
            "--no-build": (NEVER, "Build nothing, even if a build is out of date."),
        },
    )  # fmt: skip
    documents: Freshness = option(
        RUN, default=Freshness.COMPARE,
        flags={
            "--refresh": (
                "refresh", "Download documents given by URL again, instead of using the copies."
            ),
            "--offline": ("offline", "Use only the copies; download nothing."),
        },
    )  # fmt: skip
    evidence: str = option(
        BROWSERS, "--evidence", choices=KEPT, default=FAILURES,
        help="Which browser tests keep screenshots, page sources and command logs.",
    )  # fmt: skip
    visible: bool = option(
        BROWSERS, "--visible", default=False, help="Show the browsers, where there is a screen."
    )
    log: tuple[str, ...] = option(
        BROWSERS, "--log", choices=("protocol",), several=True, default=(),
        help="Print each command to a browser as a sentence.",
    )  # fmt: skip
    reports: tuple[str, ...] = option(
        REPORT, "--report", value="FORMAT=PATH", several=True, default=(),
        help=f"Also write a report: {', '.join(NAMES[:-1])} or {NAMES[-1]}.",
    )  # fmt: skip
    mail_to: tuple[str, ...] = option(
        REPORT, "--mail-to", value="ADDRESS", several=True, default=(),
        help="Mail the result and the report to this address, or to several: a@x, Name <b@x>.",
    )  # fmt: skip
    mail_when: str = option(
        REPORT, "--mail-when", choices=("always", "changed"), default="always",
        help="Always, or only if the result differs from the run before.",
    )  # fmt: skip
    quiet: bool = option(
        REPORT, "-q", "--quiet", default=False, help="Print only failures and the closing line."
    )
    verbose: bool = option(
        REPORT,
        "-v",
        "--verbose",
        default=False,
        help="Print each test, with all traces and outputs.",
    )
    dry_run: bool = option(LOOK, "--dry-run", default=False, help="Print the plan and run nothing.")
    command: str = ""
    pointed: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        """Raises InputError for a value that is none of an option's choices."""
        for name, (how, _) in run_options().items():
            value = getattr(self, name)
            for each in value if how.several else (value,):
                if how.choices and each not in how.choices:
                    hint = did_you_mean(str(each), how.choices)
                    raise InputError(Problem(f"'{name}' is '{each}'", hint=hint))

    def settled(self, jobs: int | None) -> RunRequest:
        """The request with the number of workers and the seed worked out.

        ``jobs`` is the workspace's own number, if it has one.
        """
        seed = self.seed
        if self.order == "random" and seed is None:
            seed = SystemRandom().randrange(1_000_000)
        return replace(self, jobs=self.jobs or jobs or available_cores(), seed=seed)


def run_options() -> dict[str, tuple[RunOption, Any]]:
    """The option and the default of each field that has one, by the field's name."""
    return options_of(RunRequest)


def options_of(request: type[Any]) -> dict[str, tuple[RunOption, Any]]:
    """The option and the default of each field of a request that has one, by the field's name."""
    return {
        item.name: (item.metadata["option"], item.default)
        for item in fields(request)
        if "option" in item.metadata
    }
