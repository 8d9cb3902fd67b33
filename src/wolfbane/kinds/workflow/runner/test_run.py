"""Runs one test of a document: its inputs, its workflow, and the values that it passes to other
tests.
"""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from wolfbane.kinds.workflow.document_set import DocumentSet, Unknown
from wolfbane.kinds.workflow.documents import DocumentError
from wolfbane.kinds.workflow.runner.evidence import Exchanges
from wolfbane.kinds.workflow.runner.inner import lacking_inputs, problems_with
from wolfbane.kinds.workflow.runner.inputs import BadInputs, inputs_for
from wolfbane.kinds.workflow.runner.workflow_run import WorkflowRun
from wolfbane.kinds.workflow.runner.workflow_tools import Tools, WentWrong, WorkflowEnd
from wolfbane.kinds.workflow.workflow_tests import WorkflowTest

Handed = Mapping[str, Any]
"""The values that a passed test passes on: workflow, inputs, outputs and cookies."""


@dataclass(frozen=True)
class ReadyTest:
    """A test with its inputs. ``outcome`` and ``message`` are the reason if it cannot run."""

    library: DocumentSet
    case: WorkflowTest
    inputs: Mapping[str, Any]
    outcome: str = ""
    message: str = ""


@dataclass
class WorkflowTestEnd:
    """The result of a test.

    ``handed`` is None if it did not pass; ``line`` is the line of its error.
    """

    __test__ = False

    outcome: str
    message: str = ""
    line: int = 0
    seconds: float = 0.0
    parts: list[dict[str, Any]] = field(default_factory=list)
    handed: Handed | None = None


def make_ready(library: DocumentSet, case: WorkflowTest, values: Mapping[str, Any]) -> ReadyTest:
    """A test after all checks that need no request."""
    if wrong := problems_with(library, case.workflow):
        return ReadyTest(
            library=library, case=case, inputs={}, outcome="errored", message="\n".join(wrong)
        )
    try:
        inputs = inputs_for(library, case.workflow, case.row, values=values)
        lacking = lacking_inputs(library, case.workflow, values)
    except BadInputs as error:
        inputs, lacking = {}, [str(error)]
    blocked = ""
    if lacking:
        blocked = "blocked"
    return ReadyTest(
        library=library, case=case, inputs=inputs, outcome=blocked, message="\n".join(lacking)
    )


def blocked_by(case: WorkflowTest, given: Mapping[str, Handed]) -> WorkflowTestEnd | None:
    """The result of a test whose dependencies did not pass; None if it can run."""
    missing = [need for need in case.needs if need not in given]
    if not missing:
        return None
    return WorkflowTestEnd(
        "blocked", f"the test depends on {', '.join(missing)}, which did not pass"
    )


async def run_test(
    ready: ReadyTest, given: Mapping[str, Handed], tools: Tools, exchanges: Exchanges, limit: float
) -> WorkflowTestEnd:
    """Run a test, for ``limit`` seconds at most. ``given`` are the values that it needs."""
    case, inputs = ready.case, dict(ready.inputs)
    began = time.perf_counter()
    needed = [given[need] for need in case.needs]
    tools.sender.begin(limit, [cookie for each in needed for cookie in each["cookies"]])
    workflows = {each["workflow"]: dict(each) for each in needed}
    run = WorkflowRun(
        ready.library, case.workflow, inputs, workflows=workflows, tools=tools, exchanges=exchanges
    )
    ended = await _needed_elsewhere(run, ready.library, case.workflow) or await run.run()
    seconds = time.perf_counter() - began
    problem = ended.problem
    if problem is not None:
        message = str(problem)
        if problem.outcome == "timed out":
            message = f"the test ran longer than {limit:g} s: {message}"
        return WorkflowTestEnd(
            outcome=problem.outcome,
            message=message,
            line=problem.line,
            seconds=seconds,
            parts=run.parts,
        )
    handed = {
        "workflow": case.workflow,
        "inputs": inputs,
        "outputs": ended.outputs,
        "cookies": tools.sender.cookies(),
    }
    return WorkflowTestEnd(
        outcome="passed", message="", line=0, seconds=seconds, parts=run.parts, handed=handed
    )


def in_order(names: list[str], by_name: Mapping[str, WorkflowTest]) -> list[str]:
    """The names, each after those that it needs."""
    ordered: dict[str, None] = {}

    def put(name: str) -> None:
        if name not in ordered:
            for need in by_name[name].needs:
                if need in names:
                    put(need)
            ordered[name] = None

    for name in names:
        put(name)
    return list(ordered)


async def _needed_elsewhere(
    run: WorkflowRun, library: DocumentSet, name: str
) -> WorkflowEnd | None:
    """Run the workflows of other documents that this one depends on; returns a failure."""
    for needed in library.document.workflows[name].get("dependsOn", []):
        if needed.startswith("$"):
            try:
                problem = (await run.other(needed, {})).problem
            except (WentWrong, Unknown, OSError, DocumentError) as error:
                problem = WentWrong("errored", str(error))
            if problem is not None:
                message = f"the workflow depends on {needed}, which did not pass: {problem}"
                outcome = "blocked"
                if problem.outcome == "timed out":
                    outcome = "timed out"
                return WorkflowEnd({}, WentWrong(outcome, message))
    return None
