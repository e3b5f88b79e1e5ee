"""kanal tables and kanal sample: what is in a database, and what is in a table."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import asdict
from rich.console import Console

from kanal.cli.output import console, escape, example, number, print_json, show, table
from kanal.cli.place import open_place
from kanal.connections import ColumnInfo, TableInfo
from kanal.connections.roles import Reads
from kanal.core.errors import KanalError, counted
from kanal.core.profile import Profile
from kanal.definition.places import split_table
from kanal.explore.tables import FoundTable, Sample, find_tables, sample_table
from kanal.explore.tables_picture import draw_tables


def tables(
    place: str,
    like: list[str],
    not_like: list[str],
    schema: str | None,
    columns: bool,
    picture: Path | None,
    job: Path | None,
    json: bool,
) -> int:
    """Print the tables of a place, or draw them; the exit status."""
    with open_place(place, job) as database:
        found = find_tables(database, schema, like, not_like)
    if picture is not None:
        draw_tables([one.table for one in found], picture)
        print(f"kanal: {picture} is drawn", file=sys.stderr)
        return 0
    if json:
        print_json([_document(one) for one in found])
        return 0
    screen = console()
    dated = any(one.count is not None and one.count.changed for one in found)
    drawn = table("table", "#rows", "#columns", "key", "~refers to", *(["changed"] if dated else []))
    for one in found:
        if one.unreadable is not None:
            continue
        drawn.add_row(
            f"[bold]{escape(one.table.name)}[/]" + (f" [dim]({kind})[/]" if (kind := _kind(one.table)) else ""),
            _rows(one),
            str(len(one.table.columns)),
            escape(", ".join(one.table.primary_key)) or "[dim]none[/]",
            escape(", ".join(dict.fromkeys(key.table for key in one.table.foreign_keys))),
            *([(one.count.changed or "") if one.count is not None else ""] if dated else []),
        )
    show(screen, drawn)
    _print_unreadable(screen, {one.table.name: one.unreadable for one in found if one.unreadable is not None})
    if any(one.count is not None and not one.count.exact for one in found):
        screen.print("\n[dim]~ the server's estimate, since counting would read the whole table[/]")
    if columns or len(found) == 1:
        for one in found:
            if one.unreadable is None:
                _print_columns(screen, one.table)
    return 0


def _print_unreadable(screen: Console, files: dict[str, str]) -> None:
    """Files that cannot be read, each with the reason."""
    if files:
        screen.print()
    for why in files.values():
        screen.print(f"[red]✗[/] {escape(why)}")


def _kind(info: TableInfo) -> str:
    return "view" if info.is_view else f"part of {escape(info.part_of)}" if info.part_of else ""


def _rows(found: FoundTable) -> str:
    if found.count is None:
        return ""
    return f"{'' if found.count.exact else '~'}{found.count.rows:,}"


def _print_columns(screen: Console, info: TableInfo) -> None:
    screen.print()
    drawn = table("column", "~declared", "type here", "key", title=escape(info.name))
    for column in info.columns:
        marks = ["primary"] if column.name in info.primary_key else []
        marks += ["unique"] if (column.name,) in info.unique else []
        for key in info.foreign_keys:
            if column.name in key.columns:
                marks.append(f"→ {key.table}" + (f".{key.referred[0]}" if len(key.referred) == 1 else ""))
        drawn.add_row(escape(column.name), escape(_declared(column)), _type(column), escape(", ".join(marks)))
    show(screen, drawn)


def _declared(column: ColumnInfo) -> str:
    null = "" if column.nullable else " NOT NULL"
    return f"{column.declared}{null}"


def _type(column: ColumnInfo) -> str:
    return str(column.type) if column.type is not None else "[yellow]read as text[/]"


def _document(found: FoundTable) -> dict[str, Any]:
    info = found.table
    return {
        "schema": info.schema,
        "table": info.name,
        "view": info.is_view,
        "part_of": info.part_of,
        "rows": found.count.rows if found.count else None,
        "exact": found.count.exact if found.count else None,
        "changed": found.count.changed if found.count else None,
        "primary_key": list(info.primary_key),
        "unique": [list(key) for key in info.unique],
        "foreign_keys": [
            {"columns": list(key.columns), "table": key.table, "referred": list(key.referred)}
            for key in info.foreign_keys
        ],
        "unreadable": found.unreadable,
        "columns": [
            {
                "column": column.name,
                "declared": column.declared,
                "type": str(column.type) if column.type is not None else None,
                "nullable": column.nullable,
            }
            for column in info.columns
        ],
    }


# --- sample ---------------------------------------------------------------------------------------------------------


def sample(place: str, name: str, rows: int, scan: int, job: Path | None, json: bool) -> int:
    """Print rows of a table and the profiles of its columns; the exit status."""
    with open_place(place, job) as database:
        schema, bare = (None, name) if Reads.FILES in database.reads else _split_table(name)
        found = sample_table(database, schema, bare, rows, scan)
    if json:
        print_json(
            {
                "table": found.table.name,
                "scanned": found.scanned,
                "whole": found.whole,
                "guessed": list(getattr(found.table, "guessed", ())),
                "unreadable": found.unreadable,
                "rows": found.rows,
                "columns": [_profile_document(profile, found) for profile in found.profiles],
            }
        )
        return 0
    screen = console()
    guessed = getattr(found.table, "guessed", ())
    if guessed:
        screen.print(f"[dim]As it seems: {escape('; '.join(guessed))}.[/]\n")
    _print_rows(screen, found)
    _print_unreadable(screen, found.unreadable)
    if not found.profiles:
        screen.print(f"{escape(found.table.name)} has no rows.")
        return 0
    screen.print()
    where = f"{'all' if found.whole else 'the first'} {counted(found.scanned, 'row')}"
    drawn = table("column", "~type", "#nulls", "#distinct", "~least", "~greatest", "#longest",
                  title=f"Columns, over {where}")  # fmt: skip
    for profile in found.profiles:
        column = found.table.column(profile.name)
        drawn.add_row(
            escape(profile.name),
            _type(column) if column is not None else "",
            number(profile.nulls),
            number(profile.distinct),
            escape(example(profile.least, 22)) if profile.least is not None else "",
            escape(example(profile.greatest, 22)) if profile.greatest is not None else "",
            "" if profile.longest is None else f"{profile.longest:,}",
        )
    show(screen, drawn)
    if found.misfits:
        screen.print()
        drawn = table("column", "~type", "#misfits", "~for instance", title="Values of another type")
        for misfit, (count, instance) in found.misfits.items():
            column = found.table.column(misfit)
            kind = _type(column) if column is not None else ""
            drawn.add_row(escape(misfit), kind, number(count), escape(example(instance, 40)))
        show(screen, drawn)
    guesses = [profile for profile in found.profiles if profile.guess is not None]
    if guesses:
        screen.print()
        drawn = table("column", "~most of its texts would convert to", title="Texts that may be something else")
        for profile in guesses:
            drawn.add_row(escape(profile.name), escape(profile.guess.shown) if profile.guess else "")
        show(screen, drawn)
    return 0


def _split_table(name: str) -> tuple[str | None, str]:
    """Schema and table of a name; raises KanalError if it names none."""
    try:
        return split_table(name)
    except ValueError as error:
        what, _, remedy = str(error).partition(": ")
        raise KanalError(what, remedy) from None


def _profile_document(profile: Profile, found: Sample) -> dict[str, Any]:
    guess = profile.guess
    count, instance = found.misfits.get(profile.name, (0, None))
    document = asdict(profile) | {"misfits": count, "misfit": instance}
    document["guess"] = guess and {
        "type": str(guess.type),
        "options": {name: getattr(guess.options, name) for name in sorted(guess.options.given())},
        "share": round(guess.share, 4),
        "also": guess.also,
    }
    return document


def _print_rows(screen: Console, found: Sample) -> None:
    """Rows as tables; columns that do not fit next to each other come below."""
    if not found.rows:
        return
    for names in _blocks(found, screen.width):
        drawn = table(*("" for _ in names))
        for column, name in zip(drawn.columns, names, strict=True):
            column.header = escape(name)
        for row in found.rows:
            drawn.add_row(*(_cell(row[name]) for name in names))
        show(screen, drawn)
        if names[-1] != found.table.names[-1]:
            screen.print()


def _cell(value: str | None) -> str:
    return "[dim]NULL[/]" if value is None else escape(example(value, _WIDEST))


_WIDEST = 30


def _blocks(found: Sample, width: int) -> list[Sequence[str]]:
    """The columns in groups that fit the width of the screen."""
    blocks: list[list[str]] = [[]]
    used = 0
    for name in found.table.names:
        cells = [example(row[name], _WIDEST) for row in found.rows]
        wide = max(len(name), *(len(cell) for cell in cells)) + 2
        if blocks[-1] and used + wide > width:
            blocks.append([])
            used = 0
        blocks[-1].append(name)
        used += wide
    return [tuple(block) for block in blocks]
