"""Runs jobs at their times, each run in a process of its own; with a page and messages."""
