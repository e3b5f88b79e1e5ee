"""kanal create: makes the target tables that are missing, or prints the SQL for it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rich.console import Console

from kanal.cli.jobs import read_job
from kanal.cli.output import console, escape, indented, print_json, show, table
from kanal.core.errors import KanalError, capital, counted, masked
from kanal.runner.fit import differences
from kanal.runner.job_plan import Difference, NewTable
from kanal.runner.planning.new_tables import alter_tables, create_tables
from kanal.runner.run_options import planned

Altered = tuple[Difference, str | None]


def create(path: Path, show_sql: bool, alter: bool, json: bool) -> int:
    """Make the missing tables of a file's job, and what columns others lack if that is asked for, or print how; the
    exit status."""
    if show_sql and alter:
        raise KanalError("--show only prints what --alter would do", "leave one of the two out")
    altered: list[Altered] = []
    with planned(read_job(path), {"create": True}) as plan:
        found = differences(plan)
        made = plan.new_tables if show_sql else create_tables(plan)
        if alter:
            altered = alter_tables(found)
            found = [one for one, why in altered if why is not None]
    if show_sql and not json:
        _print_sql(made, found)
        return 0
    if json:
        done = [_difference(one) for one, why in altered if why is None]
        left = [_difference(one) | ({"left": dict(altered)[one]} if altered else {}) for one in found]
        document: dict[str, Any] = {"tables": [_table(new) for new in made], "differences": left}
        print_json(document | ({"altered": done} if alter else {}))
        return 1 if alter and found else 0
    screen = console()
    _print_made(screen, made)
    if alter:
        _print_altered(screen, altered)
    elif found:
        _print_differences(screen, found, path)
    elif not made:
        screen.print("[green]✓[/] every target table is there")
    return 1 if alter and found else 0


def _print_made(screen: Console, made: list[NewTable]) -> None:
    for new in made:
        count = counted(len(new.table.columns), "column")
        screen.print(f"[green]✓[/] created [bold]{escape(new.table.name)}[/] on {escape(new.database.name)}, "
                     f"{count}, for pipeline {escape(new.step)}")  # fmt: skip
        for note in new.notes:
            screen.print(f"    [dim]{escape(note)}[/]")


def _print_altered(screen: Console, altered: list[Altered]) -> None:
    for one, why in altered:
        place = f"[bold]{escape(one.table)}[/] on {escape(one.database.name)}: {escape(one.column)}"
        was = escape(one.there) if one.there is not None else "missing"
        if why is None:
            how = "added as" if one.there is None else f"{was} →"
            screen.print(f"[green]✓[/] altered {place} {how} {escape(one.wanted)}")
        else:
            screen.print(f"[yellow]![/] left {place} ({was})")
            screen.print(indented(escape(capital(why))))
    if not altered:
        screen.print("[green]✓[/] every target table holds what the mapping gives it")


def _print_differences(screen: Console, found: list[Difference], path: Path) -> None:
    screen.print()
    drawn = table("step", "~column", "is there", "would hold all", title="Tables that exist, and were left alone")
    for one in found:
        there = escape(one.there) if one.there is not None else "[yellow]missing[/]"
        drawn.add_row(escape(one.step), escape(f"{one.table}.{one.column}"), there, escape(one.wanted))
    show(screen, drawn)
    shown = escape(masked(str(path)))
    screen.print(f"\n[dim]kanal create {shown} --show prints the ALTER statements they need, --alter carries out those "
                 "that only add or widen.[/]")  # fmt: skip


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


def _difference(one: Difference) -> dict[str, Any]:
    names = ("step", "table", "column", "there", "wanted", "sql")
    return {name: getattr(one, name) for name in names} | {"connection": one.database.name}


def _table(new: NewTable) -> dict[str, Any]:
    return {
        "table": new.table.name,
        "connection": new.database.name,
        "step": new.step,
        "sql": [*new.definitions, *new.references],
        "notes": list(new.notes),
    }
