"""The values that runtime expressions can use while a workflow runs."""

from __future__ import annotations

from collections.abc import Mapping, MutableMapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from wolfbane.kinds.workflow.document_set import DocumentSet
from wolfbane.kinds.workflow.documents import look_up
from wolfbane.kinds.workflow.expressions import ABSENT, Expression, NotJson, Untyped, evaluate_value


@dataclass
class Call:
    """A request as sent: its parts before they were combined to a URL.

    ``private`` are names of headers, in lower case, that no other host may get.
    """

    method: str
    url: str
    headers: MutableMapping[str, str]
    query: dict[str, Any]
    path: dict[str, Any]
    body: Any = None
    content: bytes = b""
    private: frozenset[str] = frozenset()


@dataclass
class Answer:
    """A response: ``content`` is the part that was read, ``hops`` the redirects before it."""

    status: int
    headers: Mapping[str, str]
    content: bytes
    seconds: float
    url: str = ""
    http: str = ""
    hops: list[tuple[Call, Answer]] = field(default_factory=list)
    asked: Call | None = None
    """The request that this response belongs to, if redirects led to another request."""
    wire: int = -1
    """Length of the body before decoding; -1 if the library does not know it."""
    reached: bool = True
    """Whether the awaited condition was met before the end of the stream."""

    def replace_content(self, content: bytes) -> None:
        """Add a part of the body; its value is then computed again."""
        self.content = content
        self.__dict__.pop("body", None)

    @property
    def received(self) -> int:
        """Length of the body before decoding, if known, and otherwise after decoding."""
        if self.wire >= 0:
            return self.wire
        return len(self.content)

    @property
    def media_type(self) -> str:
        """The content type without its parameters, in lower case."""
        return self.headers.get("content-type", "").partition(";")[0].strip().lower()

    @property
    def text(self) -> str:
        """The body as text, decoded by the charset of the content type."""
        _, _, rest = self.headers.get("content-type", "").lower().partition("charset=")
        charset = rest.partition(";")[0].strip("\"' ") or "utf-8"
        try:
            return self.content.decode(charset, "replace")
        except LookupError:
            return self.content.decode("utf-8", "replace")

    @cached_property
    def body(self) -> Any:
        """The value of a JSON body, or otherwise its text; None without a body."""
        if not self.content:
            return None
        if is_json(self.media_type) or not self.media_type:
            import json

            try:
                return json.loads(self.content)
            except (ValueError, RecursionError):
                return Untyped(self.text)
        return Untyped(self.text)

    @property
    def is_json(self) -> bool:
        """Whether the body is a JSON document."""
        return not isinstance(self.body, Untyped)


def is_json(media_type: str) -> bool:
    """``application/json``, ``text/json``, or a type that ends with ``+json``."""
    return media_type.endswith("+json") or media_type in ("application/json", "text/json")


class MissingValue(ValueError):
    """A missing value that a request or an output needs. The text names it."""


@dataclass
class Scope:
    """The values of one workflow in progress."""

    library: DocumentSet
    inputs: dict[str, Any]
    workflows: dict[str, dict[str, Any]]
    steps: dict[str, dict[str, Any]] = field(default_factory=dict)
    outputs: dict[str, Any] = field(default_factory=dict)
    call: Call | None = None
    answer: Answer | None = None

    def value(self, given: Any) -> Any:
        """A value with its expressions evaluated. Raises BadExpression, or MissingValue."""
        return evaluate_value(given, self.required)

    def values(self, texts: Mapping[str, str]) -> dict[str, Any]:
        """Outputs by name. Those without a value are left out: a step that uses one fails."""
        values = {}
        for name, text in texts.items():
            try:
                values[name] = self.value(text)
            except MissingValue:
                continue
        return values

    def required(self, expression: Expression) -> Any:
        """The value of an expression. Raises MissingValue if there is none.

        ``null`` is a value.
        """
        value = self._found(expression)
        if value is ABSENT:
            raise MissingValue(f"{expression} has no value{self._why(expression)}")
        return value

    def evaluate(self, expression: Expression) -> Any:
        """The value of an expression for a criterion, or ABSENT. Raises NotJson."""
        body = expression.head == "response" and expression.names == ("body",)
        if body and expression.pointer and self.answer is not None:
            answer = self.answer
            if answer.content and not answer.is_json:
                what = answer.media_type or "a text"
                raise NotJson(f"{expression}: the body of the response is not JSON ({what})")
        return self._found(expression)

    def _found(self, expression: Expression) -> Any:
        value = self._head(expression)
        if expression.pointer is None or value is ABSENT:
            return value
        try:
            return look_up(value, expression.pointer)
        except KeyError:
            return ABSENT

    def _why(self, expression: Expression) -> str:
        head, names = expression.head, expression.names
        if head == "inputs":
            return f": the input '{names[0]}' has no value (from a parameter, a row or a default)"
        if head == "steps" and names[0] not in self.steps:
            return f": step '{names[0]}' has not run"
        if head == "steps":
            return f": the response of step '{names[0]}' does not contain it"
        if head == "workflows" and names[0] not in self.workflows:
            return f": workflow '{names[0]}' has not run; list it in 'dependsOn', or call it"
        if head == "response" and self.answer is not None:
            return f": the response of {self.answer.url} does not contain it"
        return ""

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
            return self._of_source(names)
        return _inside(self.library.document.data.get("components", {}), names)

    def _of_source(self, names: tuple[str, ...]) -> Any:
        """A field of a source description, or a value from a workflow of another document."""
        ran = self.workflows.get(f"$sourceDescriptions.{'.'.join(names[:2])}")
        if ran is not None:
            return _inside(ran, names[2:])
        return _inside(self.library.document.sources.get(names[0], {}), names[1:])

    def _of_call(self, head: str, names: tuple[str, ...]) -> Any:
        call = self.call
        if call is None:
            return ABSENT
        if head != "request":
            if head == "url":
                return call.url
            return call.method
        if names[0] == "header":
            wanted = names[1].lower()
            return next(
                (Untyped(v) for k, v in call.headers.items() if k.lower() == wanted), ABSENT
            )
        if names[0] == "body":
            if call.body is None:
                return ABSENT
            return call.body
        value = (call.query if names[0] == "query" else call.path).get(names[1], ABSENT)
        if isinstance(value, str):
            return Untyped(value)
        return value

    def _of_answer(self, head: str, names: tuple[str, ...]) -> Any:
        if self.answer is None:
            return ABSENT
        if head == "statusCode":
            return self.answer.status
        if names[0] == "header":
            value = self.answer.headers.get(names[1].lower())
            if value is None:
                return ABSENT
            return Untyped(value)
        if self.answer.content:
            return self.answer.body
        return ABSENT


def _inside(value: Any, names: tuple[str, ...]) -> Any:
    """The value under these nested names; a name may itself contain dots."""
    for index, name in enumerate(names):
        if not isinstance(value, dict):
            return ABSENT
        rest = ".".join(names[index:])
        if rest in value:
            return value[rest]
        value = value.get(name, ABSENT)
    return value
