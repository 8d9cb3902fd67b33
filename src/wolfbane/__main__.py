"""``python -m wolfbane`` is the same as the ``wolfbane`` command."""

from wolfbane.cli import main

if __name__ == "__main__":
    main()
