"""Programs that run inside the suites' own runtimes.

They import nothing of the rest (the TAP worker alone shares the pure TAP reader), use the
standard library only, and the ones for Python run on 3.8 and later.
"""
