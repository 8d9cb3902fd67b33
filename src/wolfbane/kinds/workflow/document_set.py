"""The documents that workflows use: descriptions by name, operations, other workflows."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from wolfbane.basis.files import read_regular
from wolfbane.errors import Problem, did_you_mean
from wolfbane.kinds.workflow import arazzo, openapi
from wolfbane.kinds.workflow.arazzo import Arazzo, BadDocument
from wolfbane.kinds.workflow.document_cache import DEFAULT, is_url, place_of
from wolfbane.kinds.workflow.documents import Document, DocumentError
from wolfbane.kinds.workflow.openapi import OpenAPI, Operation

_BY_PATH = re.compile(r"\{\$sourceDescriptions\.([\w\-]+)\.url\}#(/.*)")


class Unknown(ValueError):
    """A name that a document uses but that is not defined.

    The text names it and suggests a similar name.
    """


class DocumentSet:
    """One Arazzo document with its sources, which are read on request."""

    def __init__(
        self, root: Path, path: str, *, check: bool = False, copies: str = DEFAULT
    ) -> None:
        self.root, self.path, self.copies = root, path, copies
        self.files: dict[str, None] = {}
        self._check = check
        text = (root / path).read_text(encoding="utf-8-sig")
        self.document: Arazzo = arazzo.read(text, path, check=check)
        self._described: dict[str, OpenAPI] = {}
        self._others: dict[str, DocumentSet] = {}
        self._operations: dict[str | None, Operation] = {}

    def description(self, name: str) -> OpenAPI:
        """The OpenAPI description of that name. Raises Unknown, DocumentError or OSError."""
        if name not in self._described:
            path = self._place(name)
            text = self._read(path)
            address = (self.root / path).as_uri()
            try:
                self._described[name] = openapi.read(
                    text, path, address, self._load, check=self._check
                )
            except BadDocument:
                raise
            except DocumentError as error:
                raise BadDocument([Problem(str(error), path, error.line)]) from None
        return self._described[name]

    def other(self, name: str) -> DocumentSet:
        """Another Arazzo document that is a source of this one."""
        if name not in self._others:
            path = self._place(name)
            self.files[path] = None
            self._others[name] = DocumentSet(self.root, path, check=self._check, copies=self.copies)
        return self._others[name]

    def _place(self, name: str) -> str:
        sources = self.document.sources
        if name not in sources:
            raise Unknown(f"there is no source '{name}'; {did_you_mean(name, sources)}")
        url = sources[name]["url"]
        if is_url(url):
            place_here = place_of(url, self.copies)
            if not (self.root / place_here).is_file():
                message = f"source '{name}' is at {url}, and there is no saved copy yet"
                raise Unknown(f"{message}; the next run downloads it")
            return place_here
        folder = (self.root / self.path).parent
        path: Path = (folder / urlsplit(url).path).resolve()
        try:
            return path.relative_to(self.root.resolve()).as_posix()
        except ValueError:
            return str(path)

    def _read(self, path: str) -> str:
        self.files[path] = None
        return read_regular(self.root / path).decode("utf-8-sig")

    def _load(self, address: str) -> Document:
        """A document that a description refers to."""
        path = Path(urlsplit(address).path)
        self.files[str(path)] = None
        return Document(path.read_text(encoding="utf-8-sig"))

    @property
    def descriptions(self) -> list[OpenAPI]:
        """Every OpenAPI source. A source without a type is one, unless it is an Arazzo document."""
        sources = self.document.sources.values()
        return [self.description(s["name"]) for s in sources if s.get("type") != "arazzo"]

    def read_sources(self) -> None:
        """Read every source, and every operation of it.

        Raises Unknown, DocumentError or OSError for an invalid source.
        """
        for name, source in self.document.sources.items():
            if source.get("type") == "arazzo":
                self.other(name)
            else:
                _ = self.description(name).operations

    def operation(self, step: Mapping[str, Any]) -> Operation:
        """The operation that a step calls; each is resolved once. Raises Unknown."""
        key = step.get("operationPath") or step.get("operationId")
        if key is None or key not in self._operations:
            self._operations[key] = self._operation(step)
        return self._operations[key]

    def _operation(self, step: Mapping[str, Any]) -> Operation:
        if "operationPath" in step:
            return self._by_path(step["operationPath"])
        if "operationId" not in step:
            raise Unknown(f"step '{step['stepId']}' does not call an operation")
        name = step["operationId"]
        if name.startswith("$sourceDescriptions."):
            source, _, name = name.removeprefix("$sourceDescriptions.").partition(".")
            described = [self.description(source)]
        else:
            described = self.descriptions
        operations = [d.by_id[name] for d in described if name in d.by_id]
        if not operations:
            known = [known for d in described for known in d.by_id]
            hint = did_you_mean(name, known)
            raise Unknown(f"there is no operation '{name}'; {hint}".removesuffix("; "))
        if len(operations) > 1:
            names = ", ".join(operation.source.name for operation in operations)
            hint = f"write $sourceDescriptions.NAME.{name}"
            raise Unknown(
                f"operation '{name}' is defined in several descriptions ({names}); {hint}"
            )
        return operations[0]

    def _by_path(self, text: str) -> Operation:
        match = _BY_PATH.fullmatch(text)
        if match is None:
            message = "write it as {$sourceDescriptions.NAME.url}#/paths/~1PATH/METHOD"
            raise Unknown(f"operationPath '{text}': {message}")
        description = self.description(match[1])
        if match[2] not in description.by_pointer:
            hint = did_you_mean(match[2], description.by_pointer)
            raise Unknown(f"there is no operation at {match[2]}; {hint}".removesuffix("; "))
        return description.by_pointer[match[2]]

    def workflow(self, name: str) -> tuple[DocumentSet, str]:
        """The document of a workflow, this one or a source, and its identifier there.

        Raises Unknown.
        """
        if name.startswith("$sourceDescriptions."):
            source, _, inner = name.removeprefix("$sourceDescriptions.").partition(".")
            library = self.other(source)
        else:
            library, inner = self, name
        if inner not in library.document.workflows:
            hint = did_you_mean(inner, library.document.workflows)
            raise Unknown(f"there is no workflow '{inner}'; {hint}".removesuffix("; "))
        return library, inner
