"""kanal bundle: packs a job into one file."""

from __future__ import annotations

from pathlib import Path

from kanal.cli.jobs import read_job
from kanal.cli.output import console, escape, print_json
from kanal.core.errors import counted
from kanal.definition.bundle import write_bundle


def bundle(path: Path, into: Path, json: bool) -> int:
    """Pack the job of a file and print what is in the bundle; the exit status."""
    names = write_bundle(read_job(path), into)
    if json:
        print_json({"bundle": str(into), "files": names})
        return 0
    screen = console()
    screen.print(f"[green]✓[/] {escape(str(into))}: {counted(len(names), 'file')} {escape(', '.join(names))}")
    return 0
