"""Serve the runs of Arazzo documents over the channel."""

from __future__ import annotations

import base64
import json
import sys
import time
from pathlib import Path
from typing import Any

import httpx

from wolfbane.kinds.worker.channel import Channel, Message, connect
from wolfbane.kinds.workflow.arazzo import BadDocument
from wolfbane.kinds.workflow.document_set import DocumentSet, Unknown
from wolfbane.kinds.workflow.documents import DocumentError
from wolfbane.kinds.workflow.runner.contract import Contract
from wolfbane.kinds.workflow.runner.evidence import Exchanges
from wolfbane.kinds.workflow.runner.inner import lacking_inputs, problems_with
from wolfbane.kinds.workflow.runner.inputs import BadInputs, inputs_for
from wolfbane.kinds.workflow.runner.security import Security
from wolfbane.kinds.workflow.runner.sending import Sender
from wolfbane.kinds.workflow.runner.settings import HttpOptions
from wolfbane.kinds.workflow.runner.tokens import Tokens
from wolfbane.kinds.workflow.runner.workflow_run import Tools, WentWrong, WorkflowEnd, WorkflowRun
from wolfbane.kinds.workflow.workflow_tests import WorkflowTest, cases


def main() -> None:
    """Serve requests until Wolfbane closes the channel."""
    channel, options, requests = connect(f"Python {sys.version.split()[0]}")
    worker = WorkflowWorker(channel, options)
    for request in requests:
        if request["type"] == "collect":
            for path in request["files"]:
                worker.collect(path)
        elif request["type"] == "run":
            worker.run(request)


class WorkflowWorker:
    """Runs workflows; what they share of one suite is kept from file to file."""

    def __init__(self, channel: Channel, options: Message) -> None:
        self.channel, self.root = channel, Path(options["root"])
        given = dict(options["http"])
        self.copies = given.pop("copies")
        fields = given.pop("secret_fields")
        http = HttpOptions(**given)
        sender = Sender(http)
        security = Security(http.security, sender, http.base_url)
        tokens = Tokens(fields, lambda text: channel.hold({"type": "secret", "text": text}))
        contract = Contract(http.contract)
        self.tools = Tools(sender, security, contract, http.base_url, tokens, options["values"])
        self.libraries: dict[str, DocumentSet] = {}

    def collect(self, path: str) -> None:
        """Say which tests a document holds, or why it cannot be read."""
        self.channel.send({"type": "collecting", "file": path})
        done: Message = {"type": "collected", "file": path, "divisible": False}
        try:
            library = DocumentSet(self.root, path, check=True, copies=self.copies)
            library.read_sources()
            found = cases(library)
        except BadDocument as error:
            wrong = "\n".join(str(problem) for problem in error.problems)
        except DocumentError as error:
            wrong = f"{path}:{error.line}: {error}"
        except (OSError, Unknown) as error:
            wrong = f"{path}: {error}"
        else:
            for case in found:
                told = {"address": f"{path}#{case.name}", "line": case.line, "end": case.end,
                        "tags": list(case.tags)}  # fmt: skip
                self.channel.hold({"type": "test", **told})
            self.channel.send({**done, "depends": list(library.files)})
            return
        self.channel.send({**done, "outcome": "errored", "message": wrong})

    def run(self, request: Message) -> None:
        """Run tests of one document, those that others depend on first.

        ``given`` is what tests that passed before in this run hand to those that need them.
        """
        path, names = request["file"], request["names"]
        library = self.libraries.get(path)
        if library is None:
            library = self.libraries[path] = DocumentSet(self.root, path, copies=self.copies)
        by_name = {case.name: case for case in cases(library, lines=False)}
        wanted = {need for case in by_name.values() for need in case.needs}
        given: dict[str, Message] = dict(request.get("given", {}))
        for name in _in_order(names, by_name):
            case = by_name[name]
            given.pop(name, None)  # what an attempt before gave is not what this one gives
            blocked = [need for need in case.needs if need not in given]
            if blocked:
                words = f"it depends on {', '.join(blocked)}, which did not pass"
                self.finish(path, name, 0.0, {"outcome": "blocked", "message": words})
                continue
            handed = self.one(
                library, path, case, given, request["limit"], is_needed=name in wanted
            )
            if handed is not None:
                given[name] = handed
        self.channel.send({"type": "ran", "file": path})

    def one(
        self, library: DocumentSet, path: str, case: WorkflowTest, given: dict[str, Message],
        limit: float,
        *, is_needed: bool,
    ) -> Message | None:  # fmt: skip
        """Run one test; what it hands to those that depend on it, None where it did not pass."""
        inputs, reason = self._inputs(library, case)
        if reason:
            self.finish(path, case.name, 0.0, reason)
            return None
        address = f"{path}#{case.name}"
        self.channel.send({"type": "started", "address": address})
        began = time.perf_counter()
        needed = [given[need] for need in case.needs]
        self.tools.sender.begin(limit, [cookie for each in needed for cookie in each["cookies"]])
        workflows = {each["workflow"]: each for each in needed}
        exchanges = Exchanges()
        course = WorkflowRun(library, case.workflow, inputs, workflows, self.tools, exchanges)
        ended = self._needed_elsewhere(course, library, case) or course.run()
        self._keep(address, exchanges)
        seconds = time.perf_counter() - began
        self.tell_covered()
        message: Message = {"outcome": "passed", "parts": course.parts}
        problem = ended.problem
        if problem is not None:
            words = str(problem)
            if problem.outcome == "timed out":
                words = f"it ran longer than {limit:g} s: {words}"
            message.update(outcome=problem.outcome, message=words)
            file = str(self.root / path)
            message["frames"] = [{"file": file, "line": problem.line, "function": case.workflow}]
        handed: Message = {
            "workflow": case.workflow, "inputs": inputs, "outputs": ended.outputs,
            "cookies": self.tools.sender.cookies(),
        }  # fmt: skip
        if problem is None and is_needed:
            self.channel.hold({"type": "handed", "address": address, "value": handed})
        self.finish(path, case.name, seconds, message)
        return handed if problem is None else None

    def _inputs(self, library: DocumentSet, case: WorkflowTest) -> tuple[dict[str, Any], Message]:
        """The inputs of a test; and why it cannot run, if it cannot."""
        if wrong := problems_with(library, case.workflow):
            return {}, {"outcome": "errored", "message": "\n".join(wrong)}
        try:
            inputs = inputs_for(library, case.workflow, case.row, self.tools.values)
            lacking = lacking_inputs(library, case.workflow, self.tools.values)
        except BadInputs as error:
            inputs, lacking = {}, [str(error)]
        return inputs, {"outcome": "blocked", "message": "\n".join(lacking)} if lacking else {}

    def _keep(self, address: str, exchanges: Exchanges) -> None:
        """Have the archive of a test kept, and the bodies that its messages refer to."""
        for mark, content in exchanges.bodies.items():
            told: Message = {"type": "evidence", "address": address, "kind": "body", "mark": mark}
            try:
                told["text"] = content.decode()
            except UnicodeDecodeError:
                told["data"] = base64.b64encode(content).decode()
            self.channel.hold(told)
        if exchanges.entries:
            text = json.dumps(exchanges.archive(), ensure_ascii=False)
            told = {"type": "evidence", "address": address, "kind": "har", "text": text}
            self.channel.hold(told)

    def _needed_elsewhere(
        self, course: WorkflowRun, library: DocumentSet, case: WorkflowTest
    ) -> WorkflowEnd | None:
        """Workflows of other documents that this one depends on run with it; how one failed."""
        for name in library.document.workflows[case.workflow].get("dependsOn", []):
            if name.startswith("$"):
                try:
                    problem = course.other(name, {}).problem
                except (WentWrong, Unknown, OSError, DocumentError) as error:
                    problem = WentWrong("errored", str(error))
                if problem is not None:
                    words = f"it depends on {name}, which did not pass: {problem}"
                    outcome = "timed out" if problem.outcome == "timed out" else "blocked"
                    return WorkflowEnd({}, WentWrong(outcome, words))
        return None

    def tell_covered(self) -> None:
        """Which operations were exercised since this was last told."""
        for (source, operation, status, media), count in self.tools.covered.items():
            told = {"source": source, "operation": operation, "status": status, "media": media}
            self.channel.hold({"type": "covered", **told, "count": count})
        self.tools.covered.clear()

    def finish(self, path: str, name: str, seconds: float, message: Message) -> None:
        """Send the last message of a test."""
        told = {"type": "finished", "address": f"{path}#{name}", "seconds": round(seconds, 6)}
        self.channel.send({**told, **message})


def _in_order(names: list[str], by_name: dict[str, WorkflowTest]) -> list[str]:
    """The names, each after those that it needs."""
    found: dict[str, None] = {}

    def put(name: str) -> None:
        if name not in found:
            for need in by_name[name].needs:
                if need in names:
                    put(need)
            found[name] = None

    for name in names:
        put(name)
    return list(found)


if __name__ == "__main__":
    assert httpx  # imported here, so that no test waits for it
    main()
