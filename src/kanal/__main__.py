"""Lets `python -m kanal` be the command line."""

from kanal.cli import main

main()
