"""Lists the tables of a database, and looks at some rows of one."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence

import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from kanal.connections import TableInfo
from kanal.connections.base import Connection, as_source
from kanal.connections.description import RowCount
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads
from kanal.core.errors import KanalError, counted
from kanal.core.faults import Fault
from kanal.core.frame import Frame, SourceBatch
from kanal.core.nearest import did_you_mean
from kanal.core.profile import Profile, profile_column
from kanal.core.types import Family

#: Kanal's own tables in a target.
OWN = ("kanal_progress", "kanal_watermark", "kanal_mark", "kanal_file")


class FoundTable(Struct, frozen=True):
    """A table or view, and how many rows it has; of a file that cannot be read, why not."""

    table: TableInfo
    count: RowCount | None
    unreadable: str | None = None


def chosen_tables(
    database: Connection, schema: str | None, like: Sequence[str] = (), not_like: Sequence[str] = ()
) -> list[str]:
    """The names of tables and views that fit one of the patterns and none of the others; all without patterns.

    In a pattern, * is any text and ? any character; case does not matter. Raises KanalError if none fits, and says
    what is there.
    """

    def fits(name: str, patterns: Sequence[str]) -> bool:
        return any(fnmatch.fnmatchcase(name.casefold(), pattern.casefold()) for pattern in patterns)

    names = [name for name in database.catalogue.table_names(schema) if name not in OWN]
    chosen = [name for name in names if (not like or fits(name, like)) and not fits(name, not_like)]
    if not chosen:
        where = f"schema {schema} of connection {database.name}" if schema else f"connection {database.name}"
        if not names and Reads.FILES in database.reads:
            raise KanalError(
                f"{where} ({database.shown_url}) has no files whose ending belongs to a format",
                "put files such as tolls.csv there, name another folder, or have a job name the files with a "
                "[format.NAME] that has a kind",
            )
        if not names:
            schemas = [
                f"{name} ({counted(count, 'table')})" for name, count in database.catalogue.other_schemas().items()
            ]
            another = f"schema: {', '.join(schemas)}" if schemas else "database or schema"
            raise KanalError(f"{where} has no tables", f"name another {another}")
        shown = ", ".join(names[:12]) + (f" and {len(names) - 12} more" if len(names) > 12 else "")
        near = did_you_mean(like[0].strip("*"), names) if like else ""
        remedy = near if near.startswith("did you mean") else "write a pattern such as 'lock_*'"
        raise KanalError(f"no table of {where} fits; it has: {shown}", remedy)
    return chosen


def find_tables(
    database: Connection, schema: str | None = None, like: Sequence[str] = (), not_like: Sequence[str] = (),
    counted: bool = True,
) -> list[FoundTable]:  # fmt: skip
    """The tables and views that fit, described, with their rows counted if that is wanted."""
    names = chosen_tables(database, schema, like, not_like)
    tables, unreadable = describe_tables(database, schema, names)
    counts = (
        database.catalogue.row_counts(schema, [table.name for table in tables if not table.is_view]) if counted else {}
    )
    found = [FoundTable(table, counts.get(table.name)) for table in tables]
    return found + [FoundTable(TableInfo(None, name, ()), None, why) for name, why in unreadable.items()]


def describe_tables(
    database: Connection, schema: str | None, names: Sequence[str]
) -> tuple[list[TableInfo], dict[str, str]]:
    """The tables of some names, and why the files among them that cannot be read cannot be.

    Raises KanalError if a table of a database cannot be described, or if no file can be read.
    """
    database.catalogue.expect(schema, names)
    tables, errors = [], {}
    for name in names:
        try:
            tables.append(database.catalogue.describe(schema, name))
        except KanalError as error:
            if Reads.FILES not in database.reads:
                raise
            errors[name] = error
    if not tables:
        raise next(iter(errors.values()))
    return tables, {name: _named(name, error.what) for name, error in errors.items()}


def _named(file: str, why: str) -> str:
    """Why a file cannot be read, with its name in front if it is not in it."""
    return why if file in why else f"{file}: {why}"


class Sample(Struct, frozen=True):
    """Some rows of a table as text, and a profile of each column over `scanned` rows, which are all if `whole`.

    `misfits` has, by column, the number of values that are not of its type, and one of them. `unreadable` has, by
    the file's name, why a file cannot be read to its end.
    """

    table: TableInfo
    rows: list[dict[str, str | None]]
    profiles: list[Profile]
    scanned: int
    whole: bool
    misfits: dict[str, tuple[int, str | None]]
    unreadable: dict[str, str] = field(default_factory=dict)


def sample_table(database: Connection, schema: str | None, name: str, rows: int = 20, scan: int = 100_000) -> Sample:
    """The first rows of a table or view, and the profiles of its columns over this many rows."""
    table = database.catalogue.describe(schema, name)
    columns = tuple(table.names)
    parts: dict[str, list[pa.Array]] = {column: [] for column in columns}
    shown: list[dict[str, str | None]] = []
    scanned = 0
    misfits: dict[str, tuple[int, str | None]] = {}
    unreadable: dict[str, str] = {}
    with as_source(database).read(Reading(table, None, columns, min(scan, 50_000), limit=scan + 1)) as batches:
        for batch in batches:
            unreadable |= unreadable_files(batch)
            if len(shown) < rows:
                shown += batch.row_texts(list(range(min(rows - len(shown), batch.rows))))
            scanned += batch.rows
            for column, (values, faults) in _typed_columns(table, batch).items():
                parts[column].append(values)
                if faults:
                    count, instance = misfits.get(column, (0, faults[0].value))
                    misfits[column] = count + len(faults), instance
    profiles, types = [], table.source_columns()
    for column, arrays in parts.items():
        if arrays:
            profile = profile_column(column, arrays)
            mostly_text = types[column].type.family is Family.TEXT or 2 * misfits.get(column, (0,))[0] > profile.rows
            profiles.append(profile if mostly_text else replace(profile, guess=None))
    return Sample(table, shown, profiles, min(scanned, scan), scanned <= scan, misfits, unreadable)


def unreadable_files(batch: SourceBatch) -> dict[str, str]:
    """Why the files of a batch cannot be read to their ends, by name."""
    return {line.file: _named(line.file, line.wrong) for line in batch.bad_lines if line.whole}


def _typed_columns(table: TableInfo, batch: SourceBatch) -> dict[str, tuple[pa.Array, list[Fault]]]:
    """A batch's columns in their types, and the values that are none; a column that has such, as text."""
    types = {column: described.type for column, described in table.source_columns().items()}
    frame = Frame(batch, types)
    found = {}
    for column in table.names:
        values = frame.column((None, column))
        faults = frame.collect()
        if faults:
            strays = {column: batch.strays[column]} if column in batch.strays else {}
            alone = SourceBatch(batch.rows, {column: batch.columns[column]}, strays)
            values = pa.array([row[column] for row in alone.row_texts(list(range(batch.rows)))], pa.string())
        found[column] = values, faults
    return found
