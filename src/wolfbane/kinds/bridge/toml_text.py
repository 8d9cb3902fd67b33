"""Values in the form of a bridge file."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence


def toml_text(text: str) -> str:
    """A TOML string: in single quotes without escapes, if possible."""
    if text.isprintable() and "'" not in text and ('"' in text or "\\" in text):
        return f"'{text}'"
    return json.dumps(text, ensure_ascii=False)


def toml_list(texts: Sequence[str | Sequence[str]]) -> str:
    """A TOML array of strings, and of arrays of strings."""
    items = (toml_text(each) if isinstance(each, str) else toml_list(each) for each in texts)
    return f"[{', '.join(items)}]"


def toml_table(values: Mapping[str, str]) -> str:
    """A TOML inline table of strings."""
    pairs = (f"{toml_text(key)} = {toml_text(value)}" for key, value in values.items())
    return f"{{ {', '.join(pairs)} }}"
