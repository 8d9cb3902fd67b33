"""Runs one workflow: its steps, their follow-up actions, and their results."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Mapping
from typing import Any

from wolfbane.basis.units import seconds
from wolfbane.kinds.workflow.arazzo import Arazzo
from wolfbane.kinds.workflow.document_set import DocumentSet, Unknown
from wolfbane.kinds.workflow.extensions import CONNECT, READ, UNTIL
from wolfbane.kinds.workflow.openapi import BadReference, Operation
from wolfbane.kinds.workflow.runner.actions import next_action, pause_before
from wolfbane.kinds.workflow.runner.bodies import CannotCall
from wolfbane.kinds.workflow.runner.calls import base_url, make_call
from wolfbane.kinds.workflow.runner.criteria import check, shortened, words_of
from wolfbane.kinds.workflow.runner.evidence import Exchanges
from wolfbane.kinds.workflow.runner.inputs import BadInputs, inputs_for
from wolfbane.kinds.workflow.runner.scope import Answer, Call, Scope
from wolfbane.kinds.workflow.runner.sending import NoAnswer, Patience
from wolfbane.kinds.workflow.runner.workflow_tools import (
    Tools,
    WentWrong,
    WorkflowEnd,
    as_problem,
)

_OWN_WORDS = {CONNECT, READ, UNTIL}
MOST_STEPS = 1000
DEEPEST = 20
Part = dict[str, Any]


class WorkflowRun:
    """One workflow of a document with its inputs. ``parts`` and ``exchanges`` are filled."""

    def __init__(
        self,
        library: DocumentSet,
        name: str,
        inputs: dict[str, Any],
        workflows: dict[str, dict[str, Any]],
        tools: Tools,
        exchanges: Exchanges,
        depth: int = 0,
    ) -> None:
        self.document: Arazzo = library.document
        self.workflow = self.document.workflows[name]
        self.scope = Scope(library, inputs, workflows)
        self.tools, self.exchanges, self.depth = tools, exchanges, depth
        self.parts: list[Part] = []
        self._index = self.document.positions[name]
        self._positions = {s["stepId"]: n for n, s in enumerate(self.workflow["steps"])}
        self._retried: dict[str, Counter[str]] = {}
        self._lasting: WentWrong | None = None
        """The first handled failure that still fails the test."""

    async def run(self) -> WorkflowEnd:
        """Run the steps in order, or as their actions define."""
        position, taken = 0, 0
        problem: WentWrong | None = None
        while position < len(self.workflow["steps"]):
            taken += 1
            if taken > MOST_STEPS:
                problem = WentWrong("errored", f"stopped after {MOST_STEPS:,} steps")
                break
            try:
                problem, following = await self._take(position)
            except (WentWrong, NoAnswer, Unknown, OSError, ValueError) as error:
                problem = as_problem(error)
                break
            if following is None:
                break
            position = following
        problem = problem or self._lasting
        if problem is None:
            self.scope.outputs.update(self.scope.values(self.workflow.get("outputs", {})))
        return WorkflowEnd(
            outputs=self.scope.outputs,
            problem=problem,
            call=self.scope.call,
            answer=self.scope.answer,
        )

    async def _take(self, position: int) -> tuple[WentWrong | None, int | None]:
        """One step: its error, and the position of the next step (None: the workflow ends)."""
        step = self.workflow["steps"][position]
        part, problem = await self._step(step, position)
        self.parts.append(part)
        if problem is not None and problem.outcome == "timed out":
            self.exchanges.step_ended(step["stepId"], problem)
            return problem, None
        spent = self._retried.setdefault(step["stepId"], Counter())
        action = next_action(
            step, self.workflow, self.scope, succeeded=problem is None, spent=spent
        )
        kind = action["type"] if action is not None else ""
        lasting = problem if kind == "goto" and problem is not None and problem.lasting else None
        # What a document retries or handles is no failure of the step.
        self.exchanges.step_ended(step["stepId"], lasting if kind in ("retry", "goto") else problem)
        if action is None:
            return problem, position + 1 if problem is None else None
        if kind == "end":
            return problem, None
        if kind == "retry":
            spent[action["name"]] += 1
            part["outcome"] = "skipped"
            part["message"] = f"retried ({action['name']}): {problem}"
            await self.tools.sender.pause(pause_before(action, self.scope.answer))
            return await self._on_the_way(action) or problem, position
        self._lasting = self._lasting or lasting
        if problem is not None:
            also = ", but it fails the test" if lasting else ""
            part["message"] = f"handled ({action['name']}){also}: {problem}"
        if "stepId" in action:
            return None, self._positions[action["stepId"]]
        ended = await self.other(action["workflowId"], {})
        self.scope.outputs.update(ended.outputs)
        return ended.problem, None

    async def _on_the_way(self, action: Mapping[str, Any]) -> WentWrong | None:
        """The target of a retry runs before the step is tried again."""
        if "workflowId" in action:
            return (await self.other(action["workflowId"], {})).problem
        if "stepId" in action:
            position = self._positions[action["stepId"]]
            part, problem = await self._step(self.workflow["steps"][position], position)
            self.exchanges.step_ended(action["stepId"], problem)
            self.parts.append(part)
            return problem
        return None

    async def _step(self, step: Mapping[str, Any], position: int) -> tuple[Part, WentWrong | None]:
        began = time.perf_counter()
        part: Part = {"name": step["stepId"], "outcome": "passed", "parts": []}
        self.scope.call = self.scope.answer = None
        problem: WentWrong | None = None
        try:
            if "workflowId" in step:
                await self._nested(step, part)
            else:
                await self._request(step, part)
                self._outputs(step)
        except (WentWrong, Unknown, CannotCall, BadReference, NoAnswer, ValueError) as error:
            problem = as_problem(error)
        if problem is not None:
            line = self.document.document.line(f"/workflows/{self._index}/steps/{position}")
            problem.line = problem.line or line
            part.update(outcome=problem.outcome, message=str(problem), line=line)
            part["file"] = self.document.name
            message = f"step {step['stepId']}: {problem}"
            problem = WentWrong(problem.outcome, message, problem.line, lasting=problem.lasting)
        part["seconds"] = round(time.perf_counter() - began, 6)
        return part, problem

    async def _request(self, step: Mapping[str, Any], part: Part) -> None:
        operation = self.scope.library.operation(step)
        call = make_call(
            operation,
            step,
            self.workflow.get("parameters", []),
            scope=self.scope,
            base=base_url(operation, self.tools.base_url),
        )
        await self.tools.security.put_on(call, operation)
        self.scope.call = call
        part["name"] = f"{step['stepId']}: {call.method} {call.url}"
        began = time.perf_counter()
        try:
            self.scope.answer = answer = await self.tools.sender.send(call, self._patience(step))
        except NoAnswer as error:
            seconds = time.perf_counter() - began
            self.exchanges.add(call, None, seconds, step["stepId"], error)
            raise
        part["name"] += f" {answer.status}"
        self.exchanges.add(call, answer, answer.seconds, step["stepId"])
        self.tools.tokens.look_at(operation, call, answer)
        self._covered(operation, answer)
        self._judge(step, part, operation, call=call, answer=answer)

    def _patience(self, step: Mapping[str, Any]) -> Patience:
        """The time limit of a step's request; its own setting overrides the suite's."""
        if not _OWN_WORDS & step.keys():
            return self.tools.sender.patience
        http, until = self.tools.sender.http, step.get(UNTIL)
        return Patience(
            seconds(step.get(CONNECT, http.connect)),
            seconds(step.get(READ, http.read)),
            None if until is None else self._until(_criterion(until)),
        )

    def _until(self, criterion: Mapping[str, Any]) -> Callable[[Answer], bool]:
        def reached(answer: Answer) -> bool:
            self.scope.answer = answer
            return check(criterion, self.scope)[0]

        return reached

    def _covered(self, operation: Operation, answer: Answer) -> None:
        key = (operation.source.name, operation.name, str(answer.status), answer.media_type)
        self.tools.covered[key] += 1

    def _judge(
        self, step: Mapping[str, Any], part: Part, operation: Operation, call: Call, answer: Answer
    ) -> None:
        """Criteria and contract; raises WentWrong with everything that is not met."""
        problems = self._criteria(step, part, answer)
        if not answer.reached:
            condition = words_of(_criterion(step[UNTIL]))
            problems.insert(0, f"{condition}: the response ended before this condition was met")
        mismatches = list(self.tools.contract.mismatches(operation, answer, step))
        for mismatch in mismatches:
            name, message = f"contract: {mismatch.check}", str(mismatch)
            part["parts"].append({"name": name, "outcome": "failed", "message": message})
            problems.append(f"contract, {mismatch}")
        if problems:
            parts = [f"{call.method} {call.url} returned {answer.status}", *problems]
            if answer.content:
                parts.append(f"body: {shortened(answer.text)}")
            line = self.exchanges.curl(call, self.tools.sender.http)
            parts.append(f"to repeat the request: {line}")
            raise WentWrong("failed", "\n".join(parts), lasting=bool(mismatches))

    def _criteria(self, step: Mapping[str, Any], part: Part, answer: Answer | None) -> list[str]:
        criteria = step.get("successCriteria")
        if criteria is None:
            if answer is not None and answer.status >= 400:
                problem = "expected a status below 400 (default without criteria)"
                return [f"{problem}, got {answer.status}"]
            return []
        problems = []
        for criterion in criteria:
            held, message = check(criterion, self.scope)
            data = {"name": words_of(criterion), "outcome": "passed" if held else "failed"}
            if not held:
                data["message"] = message
                problems.append(f"{words_of(criterion)} is not true: {message}")
            elif message:
                data["name"] += f"  ({message})"
            part["parts"].append(data)
        return problems

    async def _nested(self, step: Mapping[str, Any], part: Part) -> None:
        inputs = {
            parameter["name"]: self.scope.value(parameter["value"])
            for parameter in map(self.document.resolved, step.get("parameters", []))
        }
        part["name"] = f"{step['stepId']}: workflow {step['workflowId']}"
        ended = await self.other(step["workflowId"], inputs, part["parts"])
        if ended.problem is not None:
            raise ended.problem
        self.scope.steps[step["stepId"]] = dict(ended.outputs)
        self.scope.call, self.scope.answer = ended.call, ended.answer
        before, self.scope.outputs = self.scope.outputs, ended.outputs
        try:
            problems = self._criteria({"successCriteria": [], **step}, part, None)
            if problems:
                raise WentWrong("failed", "\n".join(problems))
            self._outputs(step)
        finally:
            self.scope.outputs = before

    async def other(
        self, name: str, inputs: dict[str, Any], parts: list[Part] | None = None
    ) -> WorkflowEnd:
        """Run another workflow, in this document or in another."""
        if self.depth >= DEEPEST:
            raise WentWrong("errored", f"workflow calls are nested more than {DEEPEST} deep")
        library, inner = self.scope.library.workflow(name)
        try:
            whole = inputs_for(library, inner, inputs, values=self.tools.values)
        except BadInputs as error:
            raise WentWrong("errored", str(error)) from None
        course = WorkflowRun(
            library,
            inner,
            whole,
            workflows=self.scope.workflows,
            tools=self.tools,
            exchanges=self.exchanges,
            depth=self.depth + 1,
        )
        ended = await course.run()
        (self.parts if parts is None else parts).extend(course.parts)
        self.scope.workflows[name] = {"inputs": whole, "outputs": ended.outputs}
        return ended

    def _outputs(self, step: Mapping[str, Any]) -> None:
        outputs = self.scope.steps.setdefault(step["stepId"], {})
        outputs.update(self.scope.values(step.get("outputs", {})))


def _criterion(until: Any) -> Mapping[str, Any]:
    """The end of a stream: a condition, or a complete criterion."""
    return until if isinstance(until, Mapping) else {"condition": until}
