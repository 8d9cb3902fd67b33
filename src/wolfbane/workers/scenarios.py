"""Run the scenarios of feature files, and report over the channel."""

from __future__ import annotations

import asyncio
import faulthandler
import importlib.util
import inspect
import os
import platform
import sys
import time
import types
from typing import Any, Dict, List, Optional, Tuple

import wolfbane.steps
from wolfbane.formats import feature as features
from wolfbane.workers.asserts import compile_explained
from wolfbane.workers.capture import Capture
from wolfbane.workers.channel import Channel, Message, connect
from wolfbane.workers.problems import problem_of
from wolfbane.workers.stepbook import BadStep, Definition, StepBook, snippet


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


def main() -> None:
    """Serve requests until Wolfbane closes the channel."""
    channel, options, requests = connect(f"Python {platform.python_version()}")
    sys.argv[:] = [options["steps"][0] if options["steps"] else "scenarios"]
    faulthandler.enable()
    worker = _Worker(channel, Capture(options["capture"]), options)
    for request in requests:
        if request["type"] == "collect":
            for path in request["files"]:
                worker.collect(path)
        elif request["type"] == "run":
            worker.run(request["file"], request["names"])
        elif request["type"] == "close":
            worker.close()


class _Worker:
    def __init__(self, channel: Channel, capture: Capture, options: Message) -> None:
        self.channel, self.capture, self.root = channel, capture, options["root"]
        paths = [os.path.join(self.root, path) for path in options["import_path"]]
        self.folders = [os.path.join(self.root, folder) for folder in options["steps"]]
        sys.path[:0] = [*paths, os.getcwd(), *self.folders]
        self.shared = Shared()
        self.problem: Message = {}
        self.ran_before = False
        try:
            self.book = self.load()
        except BaseException as error:
            self.problem = _loading_problem(error)

    def load(self) -> StepBook:
        """Import every file of the steps folders. Raises whatever that raises."""
        if importlib.util.find_spec("wolfbane") is None:
            sys.modules["wolfbane"] = types.ModuleType("wolfbane")
        sys.modules["wolfbane.steps"] = wolfbane.steps
        for folder in self.folders:
            for name in sorted(os.listdir(folder)) if os.path.isdir(folder) else ():
                if name.endswith(".py"):
                    _load_file(os.path.join(folder, name))
        return StepBook(wolfbane.steps.registry)

    def collect(self, path: str) -> None:
        """Say which scenarios a file holds, or what is wrong with it."""
        self.channel.send({"type": "collecting", "file": path})
        done: Message = {"type": "collected", "file": path, "divisible": False}
        try:
            feature = self.read(path)
        except features.FeatureError as error:
            frame = {"file": os.path.join(self.root, path), "line": error.line, "function": ""}
            self.channel.send({**done, "outcome": "errored", "message": str(error),
                               "frames": [frame]})  # fmt: skip
            return
        for scenario in feature.scenarios:
            told = {"address": f"{path}#{scenario.name}", "line": scenario.line,
                    "end": scenario.end, "tags": list(scenario.tags)}  # fmt: skip
            self.channel.hold({"type": "test", **told})
        self.channel.send(done)

    def read(self, path: str) -> features.Feature:
        with open(os.path.join(self.root, path), encoding="utf-8-sig") as file:
            return features.read(file.read())

    def run(self, path: str, names: List[str]) -> None:
        """Run scenarios of one file in the order that was asked for."""
        try:
            feature = self.read(path)
        except (OSError, ValueError) as error:  # it was right when it was scanned
            for name in names:
                self.finish(f"{path}#{name}", problem_of(error))
            self.channel.send({"type": "ran", "file": path})
            return
        known = {scenario.name: scenario for scenario in feature.scenarios}
        if not self.ran_before and not self.problem:
            self.ran_before = True
            self.problem = self.hooks("before", "run", {"shared": self.shared}, ())
        shared = Shared(self.shared)
        told = Told(feature.name, feature.tags, feature.name)
        special = {"shared": shared, "scenario": told}
        problem = self.problem or self.hooks("before", "feature", special, feature.tags)
        for name in names:
            if name in known:
                _Course(self, path, feature, known[name], shared).run(problem)
        if not self.problem:
            self.after(f"{path}#after feature", "feature", special, feature.tags)
        self.channel.send({"type": "ran", "file": path})

    def close(self) -> None:
        """Run the hooks that come after everything."""
        if self.ran_before and not self.problem:
            place = os.path.relpath(self.folders[0], self.root) if self.folders else "."
            self.after(f"{place}#after run", "run", {"shared": self.shared}, ())
        self.channel.send({"type": "closed"})

    def after(
        self, address: str, what: str, special: Dict[str, Any], tags: Tuple[str, ...]
    ) -> None:
        """Run closing hooks; where one fails, that is an entry of its own."""
        problem = self.hooks("after", what, special, tags)
        if problem:
            self.say_printed(address)
            self.finish(address, problem)

    def hooks(
        self, side: str, what: str, special: Dict[str, Any], tags: Tuple[str, ...]
    ) -> Message:
        """Run the hooks of one moment; every closing one, though another failed. The problem."""
        found = [
            function
            for its_side, its_what, tag, function in self.book.hooks
            if (its_side, its_what) == (side, what) and (not tag or tag in tags)
        ]
        problem: Message = {}
        for function in found if side == "before" else reversed(found):
            try:
                wanted = inspect.signature(function).parameters
                finish(function(**{name: special[name] for name in wanted if name in special}))
            except Exception as error:
                told = problem_of(error)
                if told["outcome"] != "skipped":
                    told["message"] = f"in a hook {side} the {what}: {told['message']}"
                problem = problem or told
                if side == "before":
                    break
        return problem

    def finish(self, address: str, problem: Message) -> None:
        """Report something that failed as a whole."""
        self.channel.send({"type": "finished", "address": address, "seconds": 0.0, **problem})

    def say_printed(self, address: str) -> None:
        text = self.capture.take()
        if text:
            told = {"type": "output", "address": address, "stream": "both", "text": text}
            self.channel.hold(told)


class _Course:
    """One scenario on its way."""

    def __init__(
        self, worker: _Worker, path: str, feature: features.Feature,
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


def _load_file(path: str) -> None:
    name = os.path.basename(path)[: -len(".py")]
    module = types.ModuleType(name)
    module.__file__ = path
    sys.modules[name] = module
    with open(path, "rb") as source:
        code = compile_explained(source.read(), path)
    exec(code, module.__dict__)


def _loading_problem(error: BaseException) -> Message:
    problem = problem_of(error)
    if isinstance(error, BadStep):
        file, line = error.place
        problem["frames"] = [{"file": file, "line": line, "function": ""}]
        problem["message"] = str(error)
    problem["message"] = f"the steps cannot be loaded: {problem['message']}"
    return {**problem, "outcome": "errored"}
