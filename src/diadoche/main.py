"""Puts the application together; the one module that knows every floor."""

from __future__ import annotations

import sys

from diadoche.cli.app import app


def main() -> None:
    """The program's entry: verbs go to the command line, none opens the window."""
    app()


if __name__ == "__main__":
    sys.exit(main())
