"""Runs one scenario: its hooks and its steps, and records their outcomes."""

from __future__ import annotations

import base64
import inspect
import os
import time
import types
from typing import Any, Dict, List, Optional, Protocol, Tuple, Union

import wolfbane.steps
from wolfbane.kinds.python.worker.damage import ProcessState, in_words
from wolfbane.kinds.scenario.worker import feature as features
from wolfbane.kinds.scenario.worker.stepbook import Definition, StepBook, snippet
from wolfbane.kinds.worker.channel import Channel, Message
from wolfbane.kinds.worker.problems import problem_of


class Shared:
    """The shared attributes of the steps of a scenario. Attributes of outer levels can be read."""

    def __init__(self, outer: Optional[Shared] = None) -> None:
        self.__dict__["_outer"] = outer

    def __getattr__(self, name: str) -> Any:
        outer = self.__dict__["_outer"]
        while outer is not None:
            if name in outer.__dict__:
                return outer.__dict__[name]
            outer = outer.__dict__["_outer"]
        raise AttributeError(f"'shared.{name}' was not set by an earlier step")


class ScenarioFacts:
    """The facts about a scenario that its steps and hooks can use."""

    def __init__(self, name: str, tags: Tuple[str, ...], feature: str) -> None:
        self.name, self.tags, self.feature = name, tags, feature
        self.outcome = ""


class ScenarioHost(Protocol):
    """The interface that a scenario needs from its worker."""

    channel: Channel
    root: str
    book: StepBook

    def hooks(
        self, side: str, what: str, special: Dict[str, Any], tags: Tuple[str, ...]
    ) -> Message:
        """Run the hooks of one moment; returns the problem, if one failed."""

    def say_printed(self, address: str) -> None:
        """Send the output since the last time."""


class ScenarioRun:
    """One running scenario."""

    def __init__(
        self,
        worker: ScenarioHost,
        path: str,
        feature: features.Feature,
        scenario: features.Scenario,
        shared: Shared,
    ) -> None:
        self.worker, self.scenario = worker, scenario
        self.file = os.path.join(worker.root, path)
        self.address = f"{path}#{scenario.name}"
        self.facts = ScenarioFacts(scenario.name, scenario.tags, feature.name)
        self.special: Dict[str, Any] = {"shared": Shared(shared), "scenario": self.facts}
        self.parts: List[Message] = []
        self.number = 0

    def run(self, problem: Message) -> None:
        """Run hooks and steps; ``problem`` is the reason if the scenario cannot start."""
        self.worker.channel.send({"type": "started", "address": self.address})
        before, began = ProcessState(), time.perf_counter()
        wolfbane.steps.registry.keep = self.keep
        try:
            verdict = self.wrong() or problem or self.check() or self.perform()
        finally:
            wolfbane.steps.registry.keep = None
        finished = {
            "type": "finished",
            "address": self.address,
            "parts": self.parts,
            "about": self.scenario.about,
        }
        self.worker.say_printed(self.address)
        seconds = round(time.perf_counter() - began, 6)
        if not before.still_holds():
            damage = before.restore(ProcessState())
            if damage.mended or damage.lasting:
                message = {"type": "damage", "address": self.address, **in_words(damage)}
                self.worker.channel.hold(message)
        self.worker.channel.send({**finished, "seconds": seconds, **(verdict or PASSED)})

    def wrong(self) -> Message:
        """The error in the source of the scenario."""
        error = self.scenario.problem
        if error is None:
            return {}
        frame = {"file": self.file, "line": error.line, "function": self.scenario.name}
        return {"outcome": "errored", "message": str(error), "frames": [frame]}

    def check(self) -> Message:
        """Before anything runs: undefined steps, ambiguous steps, or steps with invalid values.

        An error in a step has priority over a missing step.
        """
        self.matches: List[Tuple[Definition, Any]] = []
        parts, undefined, wrong = [], [], []
        for step in self.scenario.steps:
            lookup = self.worker.book.find(step.kind, step.text)
            parts.append(self.part(step, "skipped"))
            if len(lookup.matches) == 1:
                self.matches.append(lookup.matches[0])
                continue
            if lookup.misfit:
                wrong.append(lookup.misfit)
            elif lookup.matches:
                places = " and ".join(definition.location for definition, _ in lookup.matches)
                wrong.append(f"'{step.text}' is defined more than once: {places}")
            else:
                undefined.append((step, lookup.nearest))
            parts[-1]["outcome"] = "errored" if len(wrong) + len(undefined) > 0 else "skipped"
            if not lookup.matches and not lookup.misfit:
                parts[-1]["outcome"] = "blocked"
        if not self.scenario.steps:
            return {"outcome": "blocked", "message": "the scenario has no steps"}
        if not (undefined or wrong):
            return {}
        self.parts = parts
        outcome = "blocked"
        if wrong:
            outcome = "errored"
        first = next(part for part in parts if part["outcome"] == outcome)
        frames = [{"file": self.file, "line": first["line"], "function": first["name"]}]
        if wrong:
            message = wrong[0]
        else:
            message = _to_define(undefined)
        return {"outcome": outcome, "message": message, "frames": frames}

    def perform(self) -> Message:
        """Run the hooks and the steps. Returns the problem, if one failed."""
        tags = self.scenario.tags
        problem = self.worker.hooks("before", "scenario", self.special, tags=tags)
        for step, (definition, match) in zip(self.scenario.steps, self.matches):
            began = time.perf_counter()
            part = self.part(step, "skipped")
            self.number += 1
            if not problem:
                problem = self.step(step, definition, match)
                part["outcome"] = problem.get("outcome", "passed")
                part["seconds"] = round(time.perf_counter() - began, 6)
                if problem:
                    part["message"] = problem["message"]
            self.parts.append(part)
        self.number = 0
        self.facts.outcome = problem.get("outcome", "passed")
        closing = self.worker.hooks("after", "scenario", self.special, tags=tags)
        if problem and problem["outcome"] != "skipped":
            return problem
        return closing or problem

    def step(self, step: features.Step, definition: Definition, match: Any) -> Message:
        """Call the function of a step. Returns the problem, if it failed."""
        rows = [list(row) for row in step.table]
        special = {
            **self.special,
            "text": step.doc,
            "table": wolfbane.steps.Table(rows) if rows else None,
        }
        try:
            finish(definition.call(match, special))
        except BaseException as error:
            if isinstance(error, SystemExit):
                raise
            outcome = "errored"
            if isinstance(error, AssertionError):
                outcome = "failed"
            problem = problem_of(error.with_traceback(_from_the_step_on(error)), outcome)
            if problem["outcome"] != "skipped":
                line = f"{step.keyword} {step.text}"
                frame = {"file": self.file, "line": step.line, "function": line}
                problem["frames"] = [frame, *problem["frames"]]
                problem["message"] += f"\n\nin the step: {line}"
            return problem
        return {}

    def part(self, step: features.Step, outcome: str) -> Message:
        """A step as a part of its test."""
        name = f"{step.keyword} {step.text}"
        data = {"name": name, "outcome": outcome, "file": self.file, "line": step.line}
        if step.table:
            data["table"] = [list(row) for row in step.table]
        if step.doc is not None:
            data["text"] = step.doc
        return data

    def keep(self, name: str, ending: str, content: Union[str, bytes]) -> None:
        """Send an attachment of a step. Text is sent as text, because secrets in it are masked."""
        message: Message = {
            "type": "evidence",
            "address": self.address,
            "kind": ending,
            "name": name,
            "part": self.number,
        }
        if isinstance(content, str):
            data = content.encode("utf-8", "replace")
        else:
            data = content
        try:
            message["text"] = data.decode("utf-8")
        except UnicodeDecodeError:
            message["data"] = base64.b64encode(data).decode()
        self.worker.channel.send(message)


PASSED: Message = {"outcome": "passed"}


def _to_define(undefined: List[Tuple[features.Step, str]]) -> str:
    """The message about undefined steps: the functions to write, each once."""
    snippets: Dict[str, None] = {}
    for step, nearest in undefined:
        below = ["table"] * bool(step.table) + ["text"] * (step.doc is not None)
        hint = f"# {nearest}\n" if nearest else ""
        snippets[hint + snippet(step.kind, step.text, below)] = None
    steps = "1 step is"
    if len(undefined) != 1:
        steps = f"{len(undefined)} steps are"
    return f"{steps} not defined. Add these definitions:\n\n{chr(10).join(snippets)}".rstrip()


def finish(value: Any) -> None:
    """Run an asynchronous step or hook to its end."""
    if inspect.isawaitable(value):
        import asyncio  # takes a while: only where a step is asynchronous

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
