"""A campaign of faults: each draw breaks something, and looks at what else became of the run.

    python -m benchmarks.faults --seed 7 --count 1000
    python -m benchmarks.faults --seed 7 --only 132

A draw makes a workspace with tests whose outcomes are known, takes a fault at random, and runs
Wolfbane with it. Whatever the fault, every other test must have its own outcome, what is written
must be whole, nothing may be left behind, and the next run must work.
"""
