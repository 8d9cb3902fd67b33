"""The worker for bridge suites. It starts the launcher and reads its report."""
