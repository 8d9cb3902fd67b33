"""Compare Wolfbane with the runtimes' own runners on projects that nobody here wrote."""
