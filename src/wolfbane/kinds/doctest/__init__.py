"""Kind ``doctest``: examples in docstrings and text files."""
