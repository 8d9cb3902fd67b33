"""Write OpenMetrics 1.0, which programs for dashboards and alerts read.

Specification: https://prometheus.io/docs/specs/om/open_metrics_spec/
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping
from datetime import datetime

from wolfbane.formats.run_facts import RunFacts

_ESCAPES = str.maketrans({"\\": r"\\", '"': r"\"", "\n": r"\n"})
QUARANTINED = "quarantined"
"""The outcome of tests whose failures do not fail the run."""


def write_openmetrics(run: RunFacts) -> bytes:
    """The number of tests and their seconds by suite, and the start and seconds of the run."""
    tests: Counter[tuple[str, str]] = Counter()
    seconds: dict[str, float] = defaultdict(float)
    for result in run.results:
        outcome = str(result.outcome)
        if result.outcome.is_bad and result.address in run.reasons:
            outcome = QUARANTINED
        tests[result.suite, outcome] += 1
        seconds[result.suite] += result.seconds
    workspace = {"workspace": run.name}
    lines = [*_family("wolfbane_tests", "Tests of the run, by suite and outcome.")]
    for (suite, outcome), count in sorted(tests.items()):
        lines.append(
            _sample("wolfbane_tests", {**workspace, "suite": suite, "outcome": outcome}, count)
        )
    lines += _family("wolfbane_suite_seconds", "Total duration of the tests of a suite.")
    for suite, total in sorted(seconds.items()):
        lines.append(
            _sample("wolfbane_suite_seconds", {**workspace, "suite": suite}, round(total, 6))
        )
    lines += _family("wolfbane_run_seconds", "Duration of the run.")
    lines.append(_sample("wolfbane_run_seconds", workspace, round(run.seconds, 6)))
    if run.began:
        began = datetime.fromisoformat(run.began).timestamp()
        lines += _family("wolfbane_run_began_seconds", "Start of the run, in Unix time.")
        lines.append(_sample("wolfbane_run_began_seconds", workspace, began))
    return "\n".join([*lines, "# EOF", ""]).encode()


def _family(name: str, help_text: str) -> Iterator[str]:
    yield f"# TYPE {name} gauge"
    if name.endswith("_seconds"):
        yield f"# UNIT {name} seconds"
    yield f"# HELP {name} {help_text}"


def _sample(name: str, labels: Mapping[str, str], value: float) -> str:
    pairs = ",".join(f'{key}="{text.translate(_ESCAPES)}"' for key, text in labels.items())
    return f"{name}{{{pairs}}} {value}"
