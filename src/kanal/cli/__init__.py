"""The command line: one module for each command; it parses, calls the library and prints."""

from __future__ import annotations

import sys


def main() -> None:
    """Run the command line and exit with its status; the user never sees a traceback."""
    from kanal.cli.app import run_app

    sys.exit(run_app(sys.argv[1:]))
