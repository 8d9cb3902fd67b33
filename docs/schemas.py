"""Write the JSON Schemas in this folder from the types that the program reads with."""

from __future__ import annotations

import inspect
import json
from pathlib import Path
from typing import Any

import msgspec

from wolfbane.kinds.bridge.tables import Bridge
from wolfbane.workers.protocol import schema

HERE = Path(__file__).parent


def write(name: str, schema: dict[str, Any]) -> None:
    """Write a schema; what is in its file beside the types stays."""
    path = HERE / name
    known = json.loads(path.read_text(encoding="utf-8"))
    head = {key: known[key] for key in ("$schema", "$id", "title", "description") if key in known}
    for definition in schema["$defs"].values():
        if "description" in definition:  # some versions of the library keep the indentation
            definition["description"] = inspect.cleandoc(definition["description"])
    path.write_text(json.dumps({**schema, **head}, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    write("worker-protocol.schema.json", schema())
    write("bridge.schema.json", msgspec.json.schema(Bridge))
