"""Finds the sources of compiled test files: programs and class files."""

from wolfbane.kinds.compiled.sources import compiled_sources, is_compiled, source_text

__all__ = ["compiled_sources", "is_compiled", "source_text"]
