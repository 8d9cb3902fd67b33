"""One scenario on its way: its hooks, its steps, and what became of them."""

from __future__ import annotations

import asyncio
import inspect
import os
import time
import types
from typing import TYPE_CHECKING, Any, Dict, List, Optional, Tuple

import wolfbane.steps
from wolfbane.formats import feature as features
from wolfbane.workers.channel import Message
from wolfbane.workers.problems import problem_of
from wolfbane.workers.stepbook import Definition, snippet

if TYPE_CHECKING:
    from wolfbane.workers.scenarios import Worker


class Shared:
    """What the steps of a scenario have in common: any attribute. Outer ones can be read."""

    def __init__(self, outer: Optional[Shared] = None) -> None:
        self.__dict__["_outer"] = outer

    def __getattr__(self, name: str) -> Any:
        outer = self.__dict__["_outer"]
        while outer is not None:
            if name in outer.__dict__:
                return outer.__dict__[name]
            outer = outer.__dict__["_outer"]
        raise AttributeError(f"no step before this one has set 'shared.{name}'")


class Told:
    """What a step or hook may know of its scenario."""

    def __init__(self, name: str, tags: Tuple[str, ...], feature: str) -> None:
        self.name, self.tags, self.feature = name, tags, feature
        self.outcome = ""


class Course:
    """One scenario on its way."""

    def __init__(
        self, worker: Worker, path: str, feature: features.Feature,
        scenario: features.Scenario, shared: Shared,
    ) -> None:  # fmt: skip
        self.worker, self.scenario = worker, scenario
        self.file = os.path.join(worker.root, path)
        self.address = f"{path}#{scenario.name}"
        self.told = Told(scenario.name, scenario.tags, feature.name)
        self.special: Dict[str, Any] = {"shared": Shared(shared), "scenario": self.told}
        self.parts: List[Message] = []

    def run(self, problem: Message) -> None:
        """Run hooks and steps; ``problem`` is what keeps it from starting."""
        self.worker.channel.send({"type": "started", "address": self.address})
        began = time.perf_counter()
        verdict = problem or self.check() or self.perform()
        finished = {"type": "finished", "address": self.address, "parts": self.parts}
        self.worker.say_printed(self.address)
        seconds = round(time.perf_counter() - began, 6)
        self.worker.channel.send({**finished, "seconds": seconds, **(verdict or PASSED)})

    def check(self) -> Message:
        """Before anything runs: a step that nobody defined, or that two functions claim."""
        snippets: Dict[str, None] = {}
        ambiguous = ""
        missing = 0
        self.found: List[Tuple[Definition, Any]] = []
        parts = []
        for step in self.scenario.steps:
            found = self.worker.book.find(step.kind, step.text)
            parts.append(self.part(step, "skipped"))
            if not found:
                missing += 1
                below = ["table"] * bool(step.table) + ["text"] * (step.doc is not None)
                snippets[snippet(step.kind, step.text, below)] = None
                parts[-1]["outcome"] = "blocked"
            elif len(found) > 1:
                places = " and ".join(definition.place for definition, _ in found)
                ambiguous = ambiguous or f"'{step.text}' is defined more than once: {places}"
                parts[-1]["outcome"] = "errored"
            else:
                self.found.append(found[0])
        if not self.scenario.steps:
            return {"outcome": "blocked", "message": "it has no step"}
        if not (missing or ambiguous):
            return {}
        self.parts = parts
        first = next(part for part in parts if part["outcome"] != "skipped")
        frames = [{"file": self.file, "line": first["line"], "function": first["name"]}]
        if ambiguous:
            return {"outcome": "errored", "message": ambiguous, "frames": frames}
        steps = "1 step is" if missing == 1 else f"{missing} steps are"
        message = f"{steps} not defined; define:\n\n" + "\n".join(snippets)
        return {"outcome": "blocked", "message": message.rstrip(), "frames": frames}

    def perform(self) -> Message:
        tags = self.scenario.tags
        problem = self.worker.hooks("before", "scenario", self.special, tags)
        for step, (definition, match) in zip(self.scenario.steps, self.found):
            began = time.perf_counter()
            part = self.part(step, "skipped")
            if not problem:
                problem = self.step(step, definition, match)
                part["outcome"] = problem.get("outcome", "passed")
                part["seconds"] = round(time.perf_counter() - began, 6)
                if problem:
                    part["message"] = problem["message"]
            self.parts.append(part)
        self.told.outcome = problem.get("outcome", "passed")
        closing = self.worker.hooks("after", "scenario", self.special, tags)
        return problem if problem and problem["outcome"] != "skipped" else closing or problem

    def step(self, step: features.Step, definition: Definition, match: Any) -> Message:
        rows = [list(row) for row in step.table]
        special = {**self.special, "text": step.doc,
                   "table": wolfbane.steps.Table(rows) if rows else None}  # fmt: skip
        try:
            finish(definition.call(match, special))
        except BaseException as error:
            if isinstance(error, SystemExit):
                raise
            outcome = "failed" if isinstance(error, AssertionError) else "errored"
            problem = problem_of(error.with_traceback(_from_the_step_on(error)), outcome)
            if problem["outcome"] != "skipped":
                line = f"{step.keyword} {step.text}"
                place = {"file": self.file, "line": step.line, "function": line}
                problem["frames"] = [place, *problem["frames"]]
                problem["message"] += f"\n\nin the step: {line}"
            return problem
        return {}

    def part(self, step: features.Step, outcome: str) -> Message:
        name = f"{step.keyword} {step.text}"
        return {"name": name, "outcome": outcome, "file": self.file, "line": step.line}


PASSED: Message = {"outcome": "passed"}


def finish(value: Any) -> None:
    """See an asynchronous step or hook through to its end."""
    if inspect.isawaitable(value):
        asyncio.run(_wait_for(value))


async def _wait_for(value: Any) -> None:
    await value


def _from_the_step_on(error: BaseException) -> Optional[types.TracebackType]:
    """The traceback without the lines of this worker that led to the step."""
    own = os.path.dirname(os.path.abspath(__file__))
    trace = error.__traceback__
    while trace is not None and trace.tb_frame.f_code.co_filename.startswith(own):
        trace = trace.tb_next
    return trace or error.__traceback__
