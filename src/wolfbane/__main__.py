"""The ``wolfbane`` command; ``python -m wolfbane`` is the same."""

import sys


def main() -> None:
    """Run it. An interrupt ends it quietly even while it is still being loaded."""
    try:
        from wolfbane.cli import main as run

        run()
    except KeyboardInterrupt:
        sys.exit(130)
    except RuntimeError as error:
        # Python 3.11 raises this when an interrupt arrives while a class is being made.
        if not isinstance(error.__cause__, KeyboardInterrupt):
            raise
        sys.exit(130)


if __name__ == "__main__":
    main()
