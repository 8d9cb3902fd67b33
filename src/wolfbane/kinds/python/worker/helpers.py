"""Finds functions with the name of a test that only help other code of their file."""

from __future__ import annotations

TYPE_CHECKING = False  # type checkers take it for true; to import these takes a while
if TYPE_CHECKING:
    import ast
    from typing import Set


def helper_functions(tree: ast.Module) -> Set[str]:
    """The names of functions that need arguments, and that their own file uses.

    Nothing can give a plain test function arguments, and nothing in a file calls its tests.
    """
    import ast  # few files need it in a worker

    needing = {
        node.name
        for node in tree.body
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef))
        and node.name.startswith("test_")
        and _needs_arguments(node.args)
    }
    if not needing:
        return set()
    read = (
        node.id
        for node in ast.walk(tree)
        if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Load)
    )
    return needing.intersection(read)


def _needs_arguments(arguments: ast.arguments) -> bool:
    positional = len(arguments.posonlyargs) + len(arguments.args) - len(arguments.defaults)
    return positional > 0 or None in arguments.kw_defaults
