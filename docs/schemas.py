"""Write the JSON Schemas in this folder from the types that the program reads with."""

from __future__ import annotations

import json
from pathlib import Path

from wolfbane.workers.protocol import schema

HERE = Path(__file__).parent

if __name__ == "__main__":
    text = json.dumps(schema(), indent=1) + "\n"
    (HERE / "worker-protocol.schema.json").write_text(text, encoding="utf-8")
