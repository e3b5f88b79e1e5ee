"""kanal create: makes the target tables that are missing, or prints the SQL for it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rich.console import Console

from kanal.cli.output import console, escape, print_json, show, table
from kanal.core.errors import counted
from kanal.explore.fit import differences
from kanal.job import Job
from kanal.runner.job_plan import Difference, NewTable
from kanal.runner.planning.new_tables import create_tables
from kanal.runner.run_options import planned


def create(path: Path, show_sql: bool, json: bool) -> int:
    """Make the missing tables of a file's job, or print how; the exit status."""
    with planned(Job.read(path), {"create": True}) as plan:
        found = differences(plan)
        made = plan.new_tables if show_sql else create_tables(plan)
    if show_sql and not json:
        _print_sql(made, found)
        return 0
    if json:
        print_json({"tables": [_table(new) for new in made], "differences": [vars(one) for one in found]})
        return 0
    screen = console()
    for new in made:
        count = counted(len(new.table.columns), "column")
        screen.print(f"[green]✓[/] created [bold]{escape(new.table.name)}[/] on {escape(new.database.name)}, "
                     f"{count}, for pipeline {escape(new.step)}")  # fmt: skip
        for note in new.notes:
            screen.print(f"    [dim]{escape(note)}[/]")
    if not made:
        screen.print("[green]✓[/] every target table is there")
    if found:
        _print_differences(screen, found, path)
    return 0


def _print_differences(screen: Console, found: list[Difference], path: Path) -> None:
    screen.print()
    drawn = table("step", "~column", "is there", "would hold all", title="Tables that exist, and were left alone")
    for one in found:
        there = escape(one.there) if one.there is not None else "[yellow]missing[/]"
        drawn.add_row(escape(one.step), escape(f"{one.table}.{one.column}"), there, escape(one.wanted))
    show(screen, drawn)
    screen.print(f"\n[dim]kanal create {escape(str(path))} --show prints the ALTER statements they need.[/]")


def _print_sql(tables: list[NewTable], found: list[Difference]) -> None:
    for new in tables:
        print(f"-- {new.table.name}, on connection {new.database.name}, for pipeline {new.step}")
        for note in new.notes:
            print(f"-- {note}")
        for statement in new.definitions:
            print(f"{statement};\n")
    for new in tables:
        for key, statement in zip(new.later, new.references, strict=True):
            print(f"-- {new.table.name} and {key.table} refer to each other")
            print(f"{statement};\n")
    for one in found:
        there = f"is {one.there}" if one.there is not None else "is missing"
        print(f"-- {one.table}.{one.column} {there}; {one.wanted} would hold all that pipeline {one.step} may give it")
        print(f"{one.sql};\n" if one.sql else "-- this database cannot change it in place: make the table anew\n")
    if not tables and not found:
        print("-- every target table is there, and holds all that the mapping may give it")


def _table(new: NewTable) -> dict[str, Any]:
    return {
        "table": new.table.name,
        "connection": new.database.name,
        "step": new.step,
        "sql": [*new.definitions, *new.references],
        "notes": list(new.notes),
    }
