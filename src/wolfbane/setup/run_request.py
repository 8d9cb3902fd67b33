"""The options of a run, declared once for the command line, for embedding, and for the run itself.

To add an option, add a field here and the code that uses it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from wolfbane.errors import InputError, Problem, did_you_mean
from wolfbane.formats.registry import NAMES
from wolfbane.kinds.freshness import Freshness
from wolfbane.planning.shares import Share, read_share
from wolfbane.setup.run_option import BROWSERS, LOOK, REPORT, RUN, RunOption, option, options_of
from wolfbane.workspace.vocabulary import EVIDENCE_POLICIES, FAILURES

ALWAYS, CHANGED, NEVER = "always", "changed", "never"
"""When to build suites."""


@dataclass(frozen=True)
class RunRequest:
    """How to run the selected tests.

    ``timeout`` is in seconds and overrides the timeouts of all suites.

    ``command`` is the typed command line; ``pointed`` are its arguments that run other tests in the
    same environments. ``arguments`` are all arguments, typed in ``folder`` of the workspace, for a
    run that can be repeated. ``pinned``: they could select other tests later.
    """

    jobs: int | None = option(
        RUN,
        "-j",
        "--jobs",
        value="N",
        at_least=1,
        help="Number of parallel workers. [default: number of cores]",
    )
    timeout: float | None = option(
        RUN,
        "--timeout",
        value="TIME",
        is_time=True,
        help="Time limit for each test, and for loading each file: 30s, 2m.",
    )
    stop_after: int | None = option(
        RUN, "--stop-after", value="N", at_least=1, help="Stop the run after N failed tests."
    )
    run_time: float | None = option(
        RUN,
        "--run-time",
        value="TIME",
        is_time=True,
        help="Stop the run after this time: 20m. The run fails if some tests have not run.",
    )
    on: str = option(
        RUN,
        "--on",
        value="ADDRESS",
        default="",
        help="Run on the machines of a cluster. Give the address of the scheduler, "
        "tcp://HOST:PORT, or 'cluster' for the address in [cluster].",
    )
    share: Share | None = option(
        RUN,
        "--share",
        value="N/OF",
        read=read_share,
        help="Run one share of the tests: 2/5 runs the second of five shares. "
        "'wolfbane join' combines the records of all shares into one run.",
    )
    retries: int | None = option(
        RUN, "--retries", value="N", at_least=0, help="Retry failed tests, at most N times."
    )
    retry_when: str = option(
        RUN,
        "--retry-when",
        choices=("after", "at-once"),
        default="after",
        help="Retry at the end of the run, or as soon as the test's file is finished.",
    )
    repeat: int | None = option(
        RUN,
        "--repeat",
        value="N",
        at_least=1,
        help="Run each test N times and report how often it passed.",
    )
    repeat_for: float | None = option(
        RUN,
        "--repeat-for",
        value="TIME",
        is_time=True,
        help="Repeat the tests for this time: 10m. With --repeat, at most N times.",
    )
    repeat_in: str = option(
        RUN,
        "--repeat-in",
        choices=("fresh", "same"),
        default="fresh",
        help="Use a new worker for each repetition, or keep the same worker.",
    )
    flaky_fails: bool = option(
        RUN, "--flaky-fails", default=False, help="Exit 1 if a test passed only after a retry."
    )
    warnings_fail: bool = option(
        RUN, "--warnings-fail", default=False, help="Exit 1 if the run has a warning."
    )
    quarantine: str = option(
        RUN,
        "--quarantine",
        choices=("run", "skip"),
        default="run",
        help="Run quarantined tests (their failures do not fail the run), or leave them out.",
    )
    order: str = option(
        RUN,
        "--order",
        choices=("longest", "failed", "random"),
        default="longest",
        help="The order of the tests: longest file first, "
        "previously failed tests first, or random.",
    )
    seed: int | None = option(
        RUN, "--seed", value="N", help="The seed for the random order. Each run prints its seed."
    )
    no_focus: bool = option(
        RUN,
        "--no-focus",
        default=False,
        help="Run all selected tests even if the source marks some "
        "as the only ones to run. Such marks make the run fail.",
    )
    version_must_match: bool = option(
        RUN,
        "--version-must-match",
        default=False,
        help="Stop if the suites do not match the version that is deployed in the environment.",
    )
    build: str = option(
        RUN,
        default=CHANGED,
        flags={
            "--rebuild": (ALWAYS, "Rebuild all suites, even if nothing has changed."),
            "--no-build": (NEVER, "Do not build any suite, even if a build is out of date."),
        },
    )
    documents: Freshness = option(
        RUN,
        default=Freshness.COMPARE,
        flags={
            "--refresh": (
                "refresh",
                "Download documents given by URL again, and do not use the saved copies.",
            ),
            "--offline": (
                "offline",
                "Use only the saved copies of such documents, and download nothing.",
            ),
        },
    )
    passed_on: tuple[str, ...] = option(
        RUN,
        "--pass-on",
        value="OPTION",
        several=True,
        default=(),
        help="Pass an option to the runtime, program or launcher of "
        "the selected suites. Same effect as writing it after --.",
    )
    options_for: tuple[str, ...] = option(
        RUN,
        "--options-for",
        value="SUITE",
        several=True,
        default=(),
        help="The suites that get the passed options. [default: all selected suites]",
    )
    evidence: str = option(
        BROWSERS,
        "--evidence",
        choices=EVIDENCE_POLICIES,
        default=FAILURES,
        help="The browser tests whose screenshots, page sources and command logs are kept.",
    )
    visible: bool = option(
        BROWSERS, "--visible", default=False, help="Show the browser windows, if there is a screen."
    )
    keep_open: bool = option(
        BROWSERS,
        "--keep-open",
        default=False,
        help="With --visible: leave the browser of the first failed test open until a key is "
        "pressed.",
    )
    pace: float | None = option(
        BROWSERS,
        "--pace",
        value="TIME",
        is_time=True,
        help="With --visible: wait before each browser command: 0.5s.",
    )
    live: bool = option(
        RUN,
        "--live",
        default=False,
        help="Connect one test to the terminal: show its output immediately, "
        "and let it read your input. There is no time limit.",
    )
    log: tuple[str, ...] = option(
        BROWSERS,
        "--log",
        choices=("protocol",),
        several=True,
        default=(),
        help="Print each browser command as a sentence.",
    )
    reports: tuple[str, ...] = option(
        REPORT,
        "--report",
        value="FORMAT=PATH",
        several=True,
        default=(),
        help=f"Also write a report in this format: {', '.join(NAMES[:-1])} or {NAMES[-1]}.",
    )
    mail_to: tuple[str, ...] = option(
        REPORT,
        "--mail-to",
        value="ADDRESS",
        several=True,
        default=(),
        help="Send the result and the report by mail to these addresses: a@x, Name <b@x>.",
    )
    mail_when: str = option(
        REPORT,
        "--mail-when",
        choices=("always", "changed"),
        default="always",
        help="With --mail-to: send the mail always, "
        "or only if the result differs from the previous run.",
    )
    quiet: bool = option(
        REPORT, "-q", "--quiet", default=False, help="Print only the failures and the last line."
    )
    verbose: bool = option(
        REPORT,
        "-v",
        "--verbose",
        default=False,
        help="Print every test, with full stack traces and output.",
    )
    dry_run: bool = option(
        LOOK,
        "--dry-run",
        default=False,
        help="Print the plan, but run no test. Like a run, it reads the values of the "
        "environment, builds what lists tests, and loads test files.",
    )
    command: str = ""
    pointed: tuple[str, ...] = ()
    arguments: tuple[str, ...] = ()
    folder: str = "."
    pinned: bool = False

    def __post_init__(self) -> None:
        """Raises InputError for a value that is not one of an option's choices."""
        for name, (how, _) in run_options().items():
            value = getattr(self, name)
            for each in value if how.several else (value,):
                if how.choices and each not in how.choices:
                    hint = did_you_mean(str(each), how.choices)
                    raise InputError(Problem(f"'{name}' is '{each}'", hint=hint))

    @property
    def repeats(self) -> bool:
        """Whether tests run several times, whatever their outcome."""
        return self.repeat is not None or self.repeat_for is not None


def run_options() -> dict[str, tuple[RunOption, Any]]:
    """The option and the default of each field that has one, by the field's name."""
    return options_of(RunRequest)
