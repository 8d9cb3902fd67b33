"""Load tests with workflows: many users in one process, each with own cookies and connections."""
