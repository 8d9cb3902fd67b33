"""Common code of the workers that are written in Python.

These modules run in the suites' own interpreters: Python 3.8 or later, standard library only.
"""
