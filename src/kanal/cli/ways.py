"""kanal run: which of its ways the options ask for."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kanal.cli.run import dry_run, rehearse, run
from kanal.core.errors import KanalError
from kanal.runner.run_options import RunOptions


def run_by(
    path: Path,
    options: RunOptions,
    values: list[str],
    events: Path | None,
    json: bool,
    ways: Mapping[str, Any],
) -> int:
    """Run the job of a file in the way that options such as --by or --dry-run ask for; the exit status."""
    given = [name for name, value in ways.items() if value]
    if "--by" in given:
        from kanal.cli.windows import run_windows

        if len(given) > 1:
            raise KanalError(f"--by does not go with {' and '.join(given[1:])}", "give one of them")
        return run_windows(path, options, ways["--by"], values, events, json)
    if "--rehearse" in given:
        return rehearse(path, options, values, json)
    if "--dry-run" in given:
        return dry_run(path, options, values, json)
    return run(path, options, values, events, json, "--notify" in given)
