"""Files in which the whole file is one test."""

from __future__ import annotations

from pathlib import Path

from wolfbane.kinds.compiled import compiled_sources
from wolfbane.kinds.suite import Suite
from wolfbane.model import Test, TestFile


def whole_file(root: Path, suite: Suite, path: str, source: bytes) -> TestFile:
    """A file that is one test. A compiled one also depends on its sources."""
    lines = source.count(b"\n") + 1
    test = Test(suite.name, suite.kind, path, "", line=1, end=lines)
    sources = compiled_sources(root, suite, path, source)
    return TestFile(path, suite.name, suite.kind, (test,), divisible=False, depends=sources)
