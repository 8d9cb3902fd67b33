"""Tags of decorators and attributes in test code: ``@tag("smoke")``, ``tags = ["slow"]``."""

from __future__ import annotations

import ast
from collections.abc import Iterator, Sequence

from wolfbane.model import Tag

_PLAIN = {
    "skip",
    "skipIf",
    "skipUnless",
    "expectedFailure",
    "staticmethod",
    "classmethod",
    "patch",
}


def tags_of(node: ast.AST, origin: str) -> Iterator[Tag]:
    """Tags from ``@tag("smoke")`` or ``@tags(...)``, and from the attribute ``tags = [...]``."""
    for decorator in getattr(node, "decorator_list", ()):
        if isinstance(decorator, ast.Call) and _last_name(decorator) in ("tag", "tags"):
            yield from (Tag.parse(text, origin) for text in _texts(decorator.args))
    for values in _tag_attributes(node):
        yield from (Tag.parse(text, origin) for text in _texts(values))


def hides_tags(node: ast.AST) -> bool:
    """Whether decorators or attributes may add tags or create tests in a way that the source does
    not show.
    """
    for decorator in getattr(node, "decorator_list", ()):
        name = _last_name(decorator)
        if name in ("tag", "tags") and isinstance(decorator, ast.Call):
            if len(list(_texts(decorator.args))) < len(decorator.args):
                return True
        elif not any(word in _PLAIN for word in ast.dump(decorator).split("'")):
            return True
    return any(len(list(_texts(values))) < len(values) for values in _tag_attributes(node))


def _tag_attributes(node: ast.AST) -> Iterator[Sequence[ast.expr]]:
    if isinstance(node, ast.ClassDef):
        for item in node.body:
            if isinstance(item, ast.Assign) and any(
                isinstance(target, ast.Name) and target.id == "tags" for target in item.targets
            ):
                yield getattr(item.value, "elts", [item.value])


def _last_name(node: ast.expr) -> str:
    if isinstance(node, ast.Call):
        callee = node.func
    else:
        callee = node
    if isinstance(callee, ast.Attribute):
        return callee.attr
    return getattr(callee, "id", "")


def _texts(nodes: Sequence[ast.expr]) -> Iterator[str]:
    for node in nodes:
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield node.value
