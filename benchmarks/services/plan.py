"""Draws a service and workflows that call it."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

from benchmarks.services.behaviour import Behaviour, draw_behaviour

_METHODS = ("get", "get", "post", "put", "delete", "patch")


class Plan:
    """A random service, with an API description and a document of workflows."""

    def __init__(self, seed: str) -> None:
        draw = random.Random(seed)
        self.behaviours: dict[str, Behaviour] = {}
        self._operations: dict[str, Any] = {}
        self._workflows = [
            {
                "workflowId": f"flow{number}",
                "steps": [self._step(draw, f"flow{number}", n) for n in range(draw.randint(2, 6))],
            }
            for number in range(draw.randint(1, 4))
        ]

    @property
    def closing(self) -> set[str]:
        """The paths after whose response the server closes a connection without saying so."""
        return {path for path, how in self.behaviours.items() if how.kind == "closes later"}

    def write(self, folder: Path, port: int) -> None:
        """Write the workspace of the workflows."""
        paths = {
            path: {method: {"operationId": name, "responses": {"default": {"description": "Any"}}}}
            for path, (name, method) in self._operations.items()
        }
        description = {
            "openapi": "3.1.0",
            "info": {"title": "Quay", "version": "1"},
            "servers": [{"url": f"http://127.0.0.1:{port}"}],
            "paths": paths,
        }
        document = {
            "arazzo": "1.0.1",
            "info": {"title": "Flows", "version": "1"},
            "sourceDescriptions": [{"name": "quay", "url": "openapi.json", "type": "openapi"}],
            "workflows": self._workflows,
        }
        (folder / "openapi.json").write_text(json.dumps(description))
        (folder / "flows.arazzo.json").write_text(json.dumps(document))
        (folder / "wolfbane.toml").write_text(
            '[[suite]]\nname = "quay"\nkind = "workflow"\npaths = ["flows.arazzo.json"]\n'
        )

    def _step(self, draw: random.Random, flow: str, number: int) -> dict[str, Any]:
        path, name, method = f"/{flow}/{number}", f"{flow}-{number}", draw.choice(_METHODS)
        behaviour = self.behaviours[path] = draw_behaviour(draw, path)
        self._operations[path] = name, method
        wanted = behaviour.status
        if behaviour.target:
            landed = self.behaviours[behaviour.target] = draw_behaviour(draw, behaviour.target)
            wanted = landed.status
            if landed.target:
                self.behaviours[landed.target] = draw_behaviour(draw, "")._replace(target="")
        if draw.random() < 0.1:
            wanted = 418
        step: dict[str, Any] = {
            "stepId": f"step{number}",
            "operationId": name,
            "successCriteria": [{"condition": f"$statusCode == {wanted}"}],
        }
        if method in ("post", "put", "patch"):
            payload = {"boat": "y" * draw.randrange(2000)}
            step["requestBody"] = {"contentType": "application/json", "payload": payload}
        if draw.random() < 0.3:
            step["onFailure"] = [
                {
                    "name": "again",
                    "type": "retry",
                    "retryLimit": draw.randint(1, 2),
                    "retryAfter": 0.01,
                },
            ]
        elif draw.random() < 0.5 and number < 5:
            step["onFailure"] = [{"name": "on", "type": "goto", "stepId": f"step{number + 1}"}]
        return step
