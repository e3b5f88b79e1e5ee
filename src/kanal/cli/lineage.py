"""kanal lineage: from which source columns each target column comes."""

from __future__ import annotations

import sys
from pathlib import Path

from msgspec.structs import asdict

from kanal.cli.jobs import read_job
from kanal.cli.output import console, escape, print_json, show, table
from kanal.core.errors import counted
from kanal.explore.lineage import chosen, draw_lineage, write_events
from kanal.runner.run_options import planned


def lineage(path: Path, what: str | None, picture: Path | None, openlineage: Path | None, json: bool) -> int:
    """Print, draw or write from where the columns of a job's targets come; the exit status."""
    with planned(read_job(path), {"create": True}) as plan:
        origins = chosen(plan, what)
        if picture is not None:
            draw_lineage(origins, picture)
            print(f"kanal: {picture} is drawn", file=sys.stderr)
        if openlineage is not None:
            count = write_events(plan, openlineage)
            print(f"kanal: {counted(count, 'event')} written to {openlineage}", file=sys.stderr)
    if picture is not None or openlineage is not None:
        return 0
    if json:
        names = ("place", "column", "part")
        print_json(
            [
                {**asdict(one), "sources": [dict(zip(names, source, strict=True)) for source in one.sources]}
                for one in origins
            ]
        )
        return 0
    screen = console()
    for target, step in dict.fromkeys((one.target, one.step) for one in origins):
        own = [one for one in origins if (one.target, one.step) == (target, step)]
        drawn = table(
            "column", "~expression", "from", title=f"{escape(target)} [not bold dim]by step {escape(step)}[/]"
        )
        for one in own:
            places = [f"{place}.{column}" for place, column in one.values]
            found_by = [f"{place}.{column}" for place, column, part in one.sources if part == "look-up"]
            lines = [*map(escape, places), *(f"[dim]found by {escape(place)}[/]" for place in dict.fromkeys(found_by))]
            drawn.add_row(escape(one.column), escape(one.expression), "\n".join(lines or ["[dim]no column[/]"]))
        show(screen, drawn)
        filters = dict.fromkeys(f"{p}.{column}" for one in own for p, column, part in one.sources if part == "filter")
        if filters:
            screen.print(f"[dim]Rows are chosen by {escape(', '.join(filters))}.[/]")
        screen.print()
    return 0
