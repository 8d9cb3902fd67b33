"""Runs Arazzo documents, controlled through the channel."""

from __future__ import annotations

import asyncio
import base64
import gc
import json
import sys
from collections.abc import Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from yarl import URL

from wolfbane.kinds.worker.channel import Channel, Message, connect
from wolfbane.kinds.workflow.arazzo import BadDocument
from wolfbane.kinds.workflow.document_set import DocumentSet, Unknown
from wolfbane.kinds.workflow.documents import DocumentError
from wolfbane.kinds.workflow.runner.aiohttp_transport import AiohttpTransport, TimedContext
from wolfbane.kinds.workflow.runner.contract import Contract
from wolfbane.kinds.workflow.runner.evidence import Exchanges
from wolfbane.kinds.workflow.runner.scope import Call
from wolfbane.kinds.workflow.runner.security import Security
from wolfbane.kinds.workflow.runner.sending import Sender
from wolfbane.kinds.workflow.runner.settings import HttpOptions
from wolfbane.kinds.workflow.runner.test_run import (
    Handed,
    WorkflowTestEnd,
    blocked_by,
    in_order,
    make_ready,
    run_test,
)
from wolfbane.kinds.workflow.runner.tls import tls_context
from wolfbane.kinds.workflow.runner.tokens import Tokens
from wolfbane.kinds.workflow.runner.transport import Exchange, Timing, Transport
from wolfbane.kinds.workflow.runner.workflow_tools import Tools
from wolfbane.kinds.workflow.workflow_tests import WorkflowTest, cases

if TYPE_CHECKING:
    from wolfbane.kinds.workflow.load.serving import LoadWorker


class SuiteTransport(Transport):
    """Sends a request with the library for its URL."""

    def __init__(self, http: HttpOptions) -> None:
        self._http = http
        self._plain = AiohttpTransport(http, tls_context(http, TimedContext))

    @cached_property
    def _secure(self) -> Transport:
        from wolfbane.kinds.workflow.runner.httpx_transport import HttpxTransport  # takes a while

        return HttpxTransport(self._http)

    async def start(self, call: Call, url: URL, timing: Timing) -> Exchange:
        if url.scheme == "https":
            transport = self._secure
        else:
            transport = self._plain
        return await transport.start(call, url, timing)

    async def close(self) -> None:
        await self._plain.close()
        if "_secure" in self.__dict__:
            await self._secure.close()


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
        elif request["type"] == "load-look":
            worker.load.look(request)
        elif request["type"] == "load":
            worker.load.drive(request, requests)
    worker.close()
    gc.freeze()  # else the end looks through all objects, which takes longer than a small run


class WorkflowWorker:
    """Runs workflows; the shared objects of one suite are kept between files."""

    def __init__(self, channel: Channel, options: Message) -> None:
        self.channel, self.root = channel, Path(options["root"])
        given = dict(options["http"])
        self.copies = given.pop("copies")
        fields = given.pop("secret_fields")
        http = HttpOptions(**given)
        self._loop = asyncio.new_event_loop()
        sender = Sender(http, SuiteTransport(http))
        security = Security(http.security, sender, http.base_url)
        tokens = Tokens(fields, lambda text: channel.hold({"type": "secret", "text": text}))
        contract = Contract(http.contract)
        self.tools = Tools(
            sender=sender,
            security=security,
            contract=contract,
            base_url=http.base_url,
            tokens=tokens,
            values=options["values"],
        )
        self.libraries: dict[str, DocumentSet] = {}

    @cached_property
    def load(self) -> LoadWorker:
        """The handler of load tests."""
        from wolfbane.kinds.workflow.load.serving import LoadWorker  # aiohttp takes a while

        return LoadWorker(self.channel, self.root, self.copies, tools=self.tools)

    def close(self) -> None:
        """Close the connections."""
        self._loop.run_until_complete(self.tools.sender.close())
        self._loop.close()

    def collect(self, path: str) -> None:
        """Report the tests of a document, or the reason why it cannot be read."""
        self.channel.send({"type": "collecting", "file": path})
        done: Message = {"type": "collected", "file": path, "divisible": True}
        try:
            library = DocumentSet(self.root, path, check=True, copies=self.copies)
            library.read_sources()
            items = cases(library)
        except BadDocument as error:
            wrong = "\n".join(str(problem) for problem in error.problems)
        except DocumentError as error:
            wrong = f"{path}:{error.line}: {error}"
        except (OSError, Unknown) as error:
            wrong = f"{path}: {error}"
        else:
            for case in items:
                message = {
                    "address": f"{path}#{case.name}",
                    "line": case.line,
                    "end": case.end,
                    "tags": list(case.tags),
                }
                self.channel.hold({"type": "test", **message})
            self.channel.send({**done, "depends": list(library.files)})
            return
        self.channel.send({**done, "outcome": "errored", "message": wrong})

    def run(self, request: Message) -> None:
        """Run tests of one document, dependencies first.

        ``given`` are the values that passed tests of this run pass to the tests that need them.
        """
        path, names = request["file"], request["names"]
        library = self.libraries.get(path)
        if library is None:
            library = self.libraries[path] = DocumentSet(self.root, path, copies=self.copies)
        by_name = {case.name: case for case in cases(library, lines=False)}
        wanted = {need for case in by_name.values() for need in case.needs}
        given: dict[str, Handed] = dict(request.get("given", {}))
        for name in in_order(names, by_name):
            case = by_name[name]
            given.pop(name, None)  # what an attempt before gave is not what this one gives
            end = self.one(library, path, case, given=given, limit=request["limit"])
            if end.handed is not None:
                given[name] = end.handed
                if name in wanted:
                    address = f"{path}#{name}"
                    self.channel.hold({"type": "handed", "address": address, "value": end.handed})
            self.finish(path, case, end)
        self.channel.send({"type": "ran", "file": path})

    def one(
        self,
        library: DocumentSet,
        path: str,
        case: WorkflowTest,
        given: Mapping[str, Handed],
        limit: float,
    ) -> WorkflowTestEnd:
        """Run one test, and store its evidence."""
        if blocked := blocked_by(case, given):
            return blocked
        ready = make_ready(library, case, self.tools.values)
        if ready.outcome:
            return WorkflowTestEnd(ready.outcome, ready.message)
        address = f"{path}#{case.name}"
        self.channel.send({"type": "started", "address": address})
        exchanges = Exchanges()
        end = self._loop.run_until_complete(
            run_test(ready, given, self.tools, exchanges=exchanges, limit=limit)
        )
        self._keep(address, exchanges)
        self.tell_covered()
        return end

    def _keep(self, address: str, exchanges: Exchanges) -> None:
        """Store the archive of a test, and the bodies that its messages refer to."""
        for mark, content in exchanges.bodies.items():
            message: Message = {
                "type": "evidence",
                "address": address,
                "kind": "body",
                "mark": mark,
            }
            try:
                message["text"] = content.decode()
            except UnicodeDecodeError:
                message["data"] = base64.b64encode(content).decode()
            self.channel.hold(message)
        if exchanges.entries:
            text = json.dumps(exchanges.archive(), ensure_ascii=False)
            message = {"type": "evidence", "address": address, "kind": "har", "text": text}
            self.channel.hold(message)

    def tell_covered(self) -> None:
        """The operations that were called since the last report."""
        for (source, operation, status, media), count in self.tools.covered.items():
            operation_key = {
                "source": source,
                "operation": operation,
                "status": status,
                "media": media,
            }
            self.channel.hold({"type": "covered", **operation_key, "count": count})
        self.tools.covered.clear()

    def finish(self, path: str, case: WorkflowTest, end: WorkflowTestEnd) -> None:
        """Send the last message of a test, before anything in the next test can fail."""
        message: Message = {
            "type": "finished",
            "address": f"{path}#{case.name}",
            "outcome": end.outcome,
            "seconds": round(end.seconds, 6),
            "message": end.message,
            "parts": end.parts,
        }
        if end.line:
            file = str(self.root / path)
            message["frames"] = [{"file": file, "line": end.line, "function": case.workflow}]
        self.channel.send(message)


if __name__ == "__main__":
    main()
