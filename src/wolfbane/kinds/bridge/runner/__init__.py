"""The worker for suites behind a bridge: starts their launcher and reads what came back."""
