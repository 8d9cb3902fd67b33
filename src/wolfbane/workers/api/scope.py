"""What runtime expressions see while a workflow runs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from wolfbane.formats.documents import look_up
from wolfbane.formats.expressions import Expression, evaluate_value
from wolfbane.formats.library import Library


@dataclass
class Call:
    """A request as it went out: its parts before they were put into an address."""

    method: str
    url: str
    headers: dict[str, str]
    query: dict[str, Any]
    path: dict[str, Any]
    body: Any = None
    content: bytes = b""


@dataclass
class Answer:
    """A response: ``content`` is what was read of it."""

    status: int
    headers: Mapping[str, str]
    content: bytes
    seconds: float
    url: str = ""
    http: str = ""

    @property
    def media_type(self) -> str:
        """The content type without its parameters, in lower case."""
        return self.headers.get("content-type", "").partition(";")[0].strip().lower()

    @property
    def text(self) -> str:
        """The body as text, by the charset that the content type names."""
        _, _, rest = self.headers.get("content-type", "").lower().partition("charset=")
        charset = rest.partition(";")[0].strip("\"' ") or "utf-8"
        try:
            return self.content.decode(charset, "replace")
        except LookupError:
            return self.content.decode("utf-8", "replace")

    @cached_property
    def body(self) -> Any:
        """The value of a JSON body, else its text; None without one."""
        if not self.content:
            return None
        if is_json(self.media_type) or not self.media_type:
            import json

            try:
                return json.loads(self.content)
            except ValueError:
                return self.text
        return self.text


def is_json(media_type: str) -> bool:
    """``application/json``, ``text/json``, or a type that ends with ``+json``."""
    return media_type.endswith("+json") or media_type in ("application/json", "text/json")


@dataclass
class Scope:
    """The values of one workflow in progress."""

    library: Library
    inputs: dict[str, Any]
    workflows: dict[str, dict[str, Any]]
    steps: dict[str, dict[str, Any]] = field(default_factory=dict)
    outputs: dict[str, Any] = field(default_factory=dict)
    call: Call | None = None
    answer: Answer | None = None

    def value(self, given: Any) -> Any:
        """A value with its expressions worked out. Raises BadExpression."""
        return evaluate_value(given, self.evaluate)

    def evaluate(self, expression: Expression) -> Any:
        """What an expression stands for; None where there is nothing."""
        found = self._head(expression)
        if expression.pointer is None:
            return found
        try:
            return look_up(found, expression.pointer)
        except KeyError:
            return None

    def _head(self, expression: Expression) -> Any:
        head, names = expression.head, expression.names
        if head in ("url", "method", "request"):
            return self._of_call(head, names)
        if head in ("statusCode", "response"):
            return self._of_answer(head, names)
        if head == "inputs":
            return _inside(self.inputs, names)
        if head == "outputs":
            return _inside(self.outputs, names)
        if head == "steps":
            return _inside(self.steps.get(names[0], {}), names[2:])
        if head == "workflows":
            return _inside(self.workflows.get(names[0], {}), names[1:])
        if head == "sourceDescriptions":
            return _inside(self.library.document.sources.get(names[0], {}), names[1:])
        return _inside(self.library.document.data.get("components", {}), names)

    def _of_call(self, head: str, names: tuple[str, ...]) -> Any:
        call = self.call
        if call is None:
            return None
        if head != "request":
            return call.url if head == "url" else call.method
        if names[0] == "header":
            return next((v for k, v in call.headers.items() if k.lower() == names[1].lower()), None)
        if names[0] == "body":
            return call.body
        return (call.query if names[0] == "query" else call.path).get(names[1])

    def _of_answer(self, head: str, names: tuple[str, ...]) -> Any:
        if self.answer is None:
            return None
        if head == "statusCode":
            return self.answer.status
        if names[0] == "header":
            return self.answer.headers.get(names[1].lower())
        return self.answer.body if names[0] == "body" else None


def _inside(value: Any, names: tuple[str, ...]) -> Any:
    """What is under these names, one in the other; a name may hold dots itself."""
    for index, name in enumerate(names):
        if not isinstance(value, dict):
            return None
        rest = ".".join(names[index:])
        if rest in value:
            return value[rest]
        value = value.get(name)
    return value
