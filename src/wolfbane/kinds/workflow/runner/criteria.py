"""Success criteria: simple conditions, regular expressions, JSONPath (RFC 9535), XPath 1.0."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache
from typing import Any

from wolfbane.kinds.workflow import conditions, expressions
from wolfbane.kinds.workflow.runner.scope import Scope

_LONGEST = 200


def check(criterion: Mapping[str, Any], scope: Scope) -> tuple[bool, str]:
    """Whether a criterion is true, and the actual value as text."""
    kind = criterion.get("type", "simple")
    kind = kind["type"] if isinstance(kind, Mapping) else kind
    text = criterion["condition"]
    if kind == "simple":
        condition = _condition(text)
        try:
            values = conditions.actual_values(condition, scope.evaluate)
        except expressions.NotJson as error:
            return False, str(error)
        shown = ", ".join(shortened(value) for value in values)
        try:
            return conditions.holds(condition, scope.evaluate), shown
        except TypeError as error:
            return False, f"{shown}: {error}"
    try:
        context = scope.evaluate(expressions.read(criterion["context"]))
    except expressions.NotJson as error:
        return False, str(error)
    shown = f"{criterion['context']} is {shortened(repr(context))}"
    if context is None or context is expressions.ABSENT:
        return False, shown
    try:
        if kind == "regex":
            return re.search(text, expressions.as_text(context)) is not None, shown
        if kind == "jsonpath":
            return bool(_json_path(text).find(context)), shown
        return _x_path(text, expressions.as_text(context)), shown
    except (ValueError, TypeError) as error:
        return False, f"{shown}: {error}"


def prepare(criterion: Mapping[str, Any]) -> None:
    """Parse a criterion, and import what it needs, before time is measured."""
    kind = criterion.get("type", "simple")
    kind = kind["type"] if isinstance(kind, Mapping) else kind
    if kind == "simple":
        _condition(criterion["condition"])
    elif kind == "regex":
        re.compile(criterion["condition"])
    elif kind == "jsonpath":
        _json_path(criterion["condition"])
    else:
        from lxml import etree

        etree.XPath(criterion["condition"])


def words_of(criterion: Mapping[str, Any]) -> str:
    """A criterion as written."""
    if "context" in criterion:
        return f"{criterion['context']} matches {criterion['condition']}"
    return str(criterion["condition"])


def shortened(text: str) -> str:
    """A long value without its middle."""
    if len(text) <= _LONGEST:
        return text
    return f"{text[: _LONGEST // 2]} [...] {text[-_LONGEST // 4 :]}"


@lru_cache(maxsize=1024)
def _condition(text: str) -> conditions.Condition:
    return conditions.parse(text)


@lru_cache(maxsize=256)
def _json_path(text: str) -> Any:
    import jsonpath_rfc9535

    return jsonpath_rfc9535.compile(text)


def parse_xml(content: bytes) -> Any:
    """An XML document, without entities or external content. Raises ValueError."""
    from lxml import etree

    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False)
    try:
        return etree.fromstring(content, parser)
    except etree.XMLSyntaxError as error:
        raise ValueError(f"not valid XML: {error}") from None


def _x_path(text: str, document: str) -> bool:
    from lxml import etree

    try:
        return bool(parse_xml(document.encode()).xpath(text))
    except etree.XPathError as error:
        raise ValueError(f"XPath: {error}") from None
