"""The arguments that several commands share."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

JobFile = Annotated[Path, typer.Argument(metavar="JOB", help="The job file, in TOML.", show_default=False)]
JobFiles = Annotated[list[Path], typer.Argument(metavar="JOB...", help="Job files or bundles.", show_default=False)]
Place = Annotated[str, typer.Argument(metavar="PLACE", help="A URL, or a connection's name with --job FILE.")]
PlaceJob = Annotated[
    Path | None,
    typer.Option("--job", metavar="FILE", help="The job file whose connection is named.", show_default=False),
]
Like = Annotated[
    list[str] | None,
    typer.Option(
        metavar="PATTERN", help="Only tables like this, such as 'lock_*'; can be repeated.", show_default=False
    ),
]
NotLike = Annotated[
    list[str] | None,
    typer.Option(metavar="PATTERN", help="No tables like this; can be repeated.", show_default=False),
]
Schema = Annotated[str | None, typer.Option(help="Of this schema.", show_default=False)]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON document and nothing else.")]
RunNumber = Annotated[
    int | None,
    typer.Argument(
        metavar="RUN", help="A run's number; the latest if left out.", show_default=False, min=1, max=2**31 - 1
    ),
]
LogJob = Annotated[
    Path | None,
    typer.Option("--job", metavar="FILE", help="Take the run log that this job names.", show_default=False),
]
LogUrl = Annotated[str | None, typer.Option("--run-log", metavar="URL", help="Take this run log.", show_default=False)]
Events = Annotated[
    Path | None,
    typer.Option(
        metavar="FILE", show_default=False, help="Append what happens to a file, a line of JSON an event; - is stderr."
    ),
]
SetValues = Annotated[
    list[str] | None,
    typer.Option(
        "--set",
        metavar="NAME=VALUE",
        show_default=False,
        help="Another value for a parameter; can be repeated.",
    ),
]
