"""Files in which the whole file is one test."""

from __future__ import annotations

from wolfbane.kinds.suite import Suite
from wolfbane.model import Test, TestFile


def whole_file(suite: Suite, path: str, source: bytes) -> TestFile:
    """A file that is one test."""
    lines = source.count(b"\n") + 1
    test = Test(suite.name, suite.kind, path, "", line=1, end=lines)
    return TestFile(path, suite.name, suite.kind, (test,), divisible=False)
