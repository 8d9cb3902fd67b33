"""Runs the scenarios of feature files, and reports through the channel."""

from __future__ import annotations

import faulthandler
import importlib
import importlib.util
import inspect
import os
import sys
import types
from typing import Any, Dict, List, Tuple

import wolfbane.steps
from wolfbane.kinds.scenario.worker import feature as features
from wolfbane.kinds.scenario.worker.scenario_run import ScenarioFacts, ScenarioRun, Shared, finish
from wolfbane.kinds.scenario.worker.step_files import load_steps
from wolfbane.kinds.scenario.worker.step_uses import tell_uses
from wolfbane.kinds.scenario.worker.stepbook import BadStep, StepBook
from wolfbane.kinds.worker.capture import Capture
from wolfbane.kinds.worker.channel import Channel, Message, connect
from wolfbane.kinds.worker.problems import problem_of


def main() -> None:
    """Serve requests until Wolfbane closes the channel."""
    channel, options, requests = connect(f"Python {sys.version.split()[0]}")
    sys.argv[:] = [options["steps"][0] if options["steps"] else "scenarios"]
    faulthandler.enable()
    worker = ScenarioWorker(
        channel, Capture(options["capture"], options.get("live", False)), options
    )
    for request in requests:
        if request["type"] == "collect":
            for path in request["files"]:
                worker.collect(path)
        elif request["type"] == "run":
            worker.run(request["file"], request["names"])
        elif request["type"] == "steps":
            worker.steps(request["files"])
        elif request["type"] == "close":
            worker.close()


class ScenarioWorker:
    """Loads the steps once, then lists and runs scenarios."""

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
        """Import every file of the steps folders. Raises all exceptions of the files."""
        if importlib.util.find_spec("wolfbane") is None:
            sys.modules["wolfbane"] = types.ModuleType("wolfbane")
        sys.modules["wolfbane.steps"] = wolfbane.steps
        load_steps(self.folders)
        return StepBook(wolfbane.steps.registry)

    def steps(self, files: List[str]) -> None:
        """Report the steps of the suite and their uses in these files."""
        if self.problem:
            message = str(self.problem.get("message", "")).strip()
            self.channel.send({"type": "listed", "undefined": [], "message": message})
            return
        tell_uses(self.channel, self.book, self.root, files=files)

    def collect(self, path: str) -> None:
        """Report the scenarios of a file, or the error in it."""
        self.channel.send({"type": "collecting", "file": path})
        done: Message = {"type": "collected", "file": path, "divisible": False}
        try:
            feature = self.read(path)
        except features.FeatureError as error:
            frame = {"file": os.path.join(self.root, path), "line": error.line, "function": ""}
            self.channel.send(
                {**done, "outcome": "errored", "message": str(error), "frames": [frame]}
            )
            return
        for scenario in feature.scenarios:
            message = {
                "address": f"{path}#{scenario.name}",
                "line": scenario.line,
                "end": scenario.end,
                "tags": list(scenario.tags),
            }
            self.channel.hold({"type": "test", **message})
        self.channel.send(done)

    def read(self, path: str) -> features.Feature:
        """A feature file. Raises FeatureError, or OSError."""
        with open(os.path.join(self.root, path), encoding="utf-8-sig") as file:
            return features.read(file.read())

    def run(self, path: str, names: List[str]) -> None:
        """Run scenarios of one file in the requested order."""
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
            self.problem = self.hooks("before", "run", {"shared": self.shared}, tags=())
        shared = Shared(self.shared)
        facts = ScenarioFacts(feature.name, feature.tags, feature.name)
        special = {"shared": shared, "scenario": facts}
        problem = self.problem or self.hooks("before", "feature", special, tags=feature.tags)
        for name in names:
            if name in known:
                ScenarioRun(self, path, feature, scenario=known[name], shared=shared).run(problem)
        if not self.problem:
            self.after(f"{path}#after feature", "feature", special, tags=feature.tags)
        self.channel.send({"type": "ran", "file": path})

    def close(self) -> None:
        """Run the hooks that come after everything."""
        if self.ran_before and not self.problem:
            path = "."
            if self.folders:
                path = os.path.relpath(self.folders[0], self.root)
            self.after(f"{path}#after run", "run", {"shared": self.shared}, tags=())
        self.channel.send({"type": "closed"})

    def after(
        self, address: str, what: str, special: Dict[str, Any], tags: Tuple[str, ...]
    ) -> None:
        """Run closing hooks; a hook that fails is a separate entry."""
        problem = self.hooks("after", what, special, tags=tags)
        if problem:
            self.say_printed(address)
            self.finish(address, problem)

    def hooks(
        self, side: str, what: str, special: Dict[str, Any], tags: Tuple[str, ...]
    ) -> Message:
        """Run the hooks of one moment, all closing ones even if one fails. Returns the problem."""
        functions = [
            function
            for its_side, its_what, tag, function in self.book.hooks
            if (its_side, its_what) == (side, what) and (not tag or tag in tags)
        ]
        problem: Message = {}
        for function in functions if side == "before" else reversed(functions):
            try:
                wanted = inspect.signature(function).parameters
                finish(function(**{name: special[name] for name in wanted if name in special}))
            except Exception as error:
                error_data = problem_of(error)
                if error_data["outcome"] != "skipped":
                    error_data["message"] = (
                        f"in a hook that runs {side} the {what}: {error_data['message']}"
                    )
                problem = problem or error_data
                if side == "before":
                    break
        return problem

    def finish(self, address: str, problem: Message) -> None:
        """Report a failure of the whole."""
        self.channel.send({"type": "finished", "address": address, "seconds": 0.0, **problem})

    def say_printed(self, address: str) -> None:
        """Send the output since the last time."""
        text = self.capture.take()
        if text:
            message = {"type": "output", "address": address, "stream": "both", "text": text}
            self.channel.hold(message)


def _loading_problem(error: BaseException) -> Message:
    problem = problem_of(error)
    if isinstance(error, BadStep):
        file, line = error.location
        problem["frames"] = [{"file": file, "line": line, "function": ""}]
        problem["message"] = str(error)
    if isinstance(error, SyntaxError):
        problem["frames"] = problem["frames"][-1:]
    imports = os.path.dirname(importlib.__file__)
    problem["frames"] = [f for f in problem["frames"] if not f["file"].startswith(imports)]
    problem["message"] = f"cannot load the steps: {problem['message']}"
    return {**problem, "outcome": "errored"}
