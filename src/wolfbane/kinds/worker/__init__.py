"""What workers written in Python share.

These modules run in the suites' own interpreters: Python 3.8 or later, standard library only.
"""
