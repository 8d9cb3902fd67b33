"""Serve the runs of Arazzo documents over the channel."""

from __future__ import annotations

import json
import platform
import time
from pathlib import Path
from typing import Any

import httpx

from wolfbane.formats.arazzo import BadDocument
from wolfbane.formats.cases import Case, cases
from wolfbane.formats.documents import DocumentError
from wolfbane.formats.library import Library, Unknown
from wolfbane.workers.api.contract import Contract
from wolfbane.workers.api.course import Course, Tools, WentWrong
from wolfbane.workers.api.evidence import Exchanges
from wolfbane.workers.api.inputs import BadInputs, inputs_for
from wolfbane.workers.api.security import Security
from wolfbane.workers.api.sending import Sender
from wolfbane.workers.api.settings import Http
from wolfbane.workers.api.tokens import Tokens
from wolfbane.workers.channel import Channel, Message, connect


def main() -> None:
    """Serve requests until Wolfbane closes the channel."""
    channel, options, requests = connect(f"Python {platform.python_version()}")
    worker = Worker(channel, options)
    for request in requests:
        if request["type"] == "collect":
            for path in request["files"]:
                worker.collect(path)
        elif request["type"] == "run":
            worker.run(request["file"], request["names"])


class Worker:
    """Runs workflows; what they share of one suite is kept from file to file."""

    def __init__(self, channel: Channel, options: Message) -> None:
        self.channel, self.root = channel, Path(options["root"])
        self.values: dict[str, Any] = options["values"]
        given = dict(options["http"])
        checks = given.pop("contract")
        self.copies = given.pop("copies")
        fields = given.pop("secret_fields")
        http = Http(**given, checks=frozenset(checks))
        sender = Sender(http)
        security = Security(http.security, sender, http.base_url)
        tokens = Tokens(fields, lambda text: channel.hold({"type": "secret", "text": text}))
        self.tools = Tools(sender, security, Contract(http.checks), http.base_url, tokens)
        self.libraries: dict[str, Library] = {}

    def collect(self, path: str) -> None:
        """Say which tests a document holds, or everything that is wrong with it."""
        self.channel.send({"type": "collecting", "file": path})
        done: Message = {"type": "collected", "file": path, "divisible": False}
        try:
            library = Library(self.root, path, check=True, copies=self.copies)
            wrong = [
                f"{path}:{library.document.document.line(place)}: {words}"
                for place, words in library.problems()
            ]
            found = cases(library)
        except BadDocument as error:
            wrong = [str(problem) for problem in error.problems]
        except DocumentError as error:
            wrong = [f"{path}:{error.line}: {error}"]
        except OSError as error:
            wrong = [f"{path}: {error}"]
        if wrong:
            self.channel.send({**done, "outcome": "errored", "message": "\n".join(wrong)})
            return
        for case in found:
            told = {"address": f"{path}#{case.name}", "line": case.line, "end": case.end,
                    "tags": list(case.tags)}  # fmt: skip
            self.channel.hold({"type": "test", **told})
        self.channel.send({**done, "depends": list(library.files)})

    def run(self, path: str, names: list[str]) -> None:
        """Run tests of one document, those that others depend on first."""
        library = self.libraries.get(path)
        if library is None:
            library = self.libraries[path] = Library(self.root, path, copies=self.copies)
        by_name = {case.name: case for case in cases(library, lines=False)}
        ready: dict[str, dict[str, Any] | BadInputs] = {}
        for name in names:
            try:
                ready[name] = inputs_for(library, by_name[name], self.values)
            except BadInputs as error:
                ready[name] = error
        workflows: dict[str, dict[str, Any]] = {}
        ended: dict[str, bool] = {}
        for name in _in_order(names, by_name):
            inputs = ready[name]
            failed = [need for need in by_name[name].needs if not ended.get(need, True)]
            ended[name] = False
            if isinstance(inputs, BadInputs):
                self.finish(path, name, 0.0, {"outcome": "blocked", "message": str(inputs)})
            elif failed:
                words = f"it depends on {', '.join(failed)}, which did not pass"
                self.finish(path, name, 0.0, {"outcome": "blocked", "message": words})
            else:
                ended[name] = self.one(library, path, by_name[name], inputs, workflows)
        self.channel.send({"type": "ran", "file": path})

    def one(
        self, library: Library, path: str, case: Case, inputs: dict[str, Any],
        workflows: dict[str, dict[str, Any]],
    ) -> bool:  # fmt: skip
        """Run one test; whether it passed."""
        address = f"{path}#{case.name}"
        self.channel.hold({"type": "started", "address": address})
        began = time.perf_counter()
        exchanges = Exchanges()
        self.tools.sender.forget()
        course = Course(library, case.workflow, inputs, workflows, self.tools, exchanges)
        problem = self._needed_elsewhere(course, library, case)
        outputs: dict[str, Any] = {}
        if problem is None:
            ended = course.run()
            problem, outputs = ended.problem, ended.outputs
        workflows[case.workflow] = {"inputs": inputs, "outputs": outputs}
        if exchanges.entries:
            text = json.dumps(exchanges.archive(), ensure_ascii=False)
            told = {"type": "evidence", "address": address, "kind": "har", "text": text}
            self.channel.hold(told)
        seconds = time.perf_counter() - began
        self.tell_covered()
        message: Message = {"outcome": "passed", "parts": course.parts}
        if problem is not None:
            message.update(outcome=problem.outcome, message=str(problem))
            file = str(self.root / path)
            message["frames"] = [{"file": file, "line": problem.line, "function": case.workflow}]
        self.finish(path, case.name, seconds, message)
        return problem is None

    def _needed_elsewhere(self, course: Course, library: Library, case: Case) -> WentWrong | None:
        """Workflows of other documents that this one depends on run with it."""
        for name in library.document.workflows[case.workflow].get("dependsOn", []):
            if name.startswith("$"):
                try:
                    problem = course.other(name, {}).problem
                except (WentWrong, Unknown, OSError, DocumentError) as error:
                    problem = WentWrong("errored", str(error))
                if problem is not None:
                    words = f"it depends on {name}, which did not pass: {problem}"
                    return WentWrong("blocked", words)
        return None

    def tell_covered(self) -> None:
        """Which operations were exercised since this was last told."""
        for (source, operation, status, media), count in self.tools.covered.items():
            told = {"source": source, "operation": operation, "status": status, "media": media}
            self.channel.hold({"type": "covered", **told, "count": count})
        self.tools.covered.clear()

    def finish(self, path: str, name: str, seconds: float, message: Message) -> None:
        told = {"type": "finished", "address": f"{path}#{name}", "seconds": round(seconds, 6)}
        self.channel.send({**told, **message})


def _in_order(names: list[str], by_name: dict[str, Case]) -> list[str]:
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
