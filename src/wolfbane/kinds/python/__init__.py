"""Kind ``python``: test classes of the standard library, and plain functions."""
