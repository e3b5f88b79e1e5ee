"""A job ready to run: what its steps read, compute and write, compiled and checked."""

from __future__ import annotations

import datetime as dt
import zoneinfo
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace

from kanal.connections import ColumnInfo, ForeignKey, TableInfo
from kanal.connections.base import Column, Connection, Source, Target, as_rebuilding, as_swapping
from kanal.connections.journal import Journal
from kanal.connections.loading import HistoryColumns
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads, Writes
from kanal.core.change_values import change_value
from kanal.core.errors import KanalError
from kanal.core.expressions import Expression
from kanal.core.transformation import ColumnPlan, ExpectCheck, LookupPlan, MembershipCheck, RowCheck
from kanal.core.types import Family, SqlType
from kanal.core.windows import instant, parse_edge
from kanal.definition import JobDefinition, Pipeline, Problem
from kanal.runlog import SeenTable
from kanal.runner.planning.order import Wait
from kanal.runner.write_rule import Writing
from kanal.runner.write_rules import rule_of


class CheckPlan(Struct, frozen=True):
    """A check, compiled over the converted row. It becomes a new RowCheck for each run of the step."""

    name: str
    expect: Expression | None = None
    unique: tuple[str, ...] = ()
    value: Expression | None = None
    members: tuple[Source, TableInfo, str] | None = None
    present: bool = True

    def begin(self, read_columns: Callable[[Source, TableInfo, list[str]], Mapping[str, Column]]) -> RowCheck:
        """The check as it begins a load, with the values of its table's column read; not of one that is `unique`."""
        if self.expect is not None:
            return ExpectCheck(self.name, self.expect)
        assert self.members is not None and self.value is not None
        database, table, column = self.members
        values, _ = read_columns(database, table, [column])[column]

        def form(name: str, given: pa.Array) -> pa.Array:
            del name
            return database.key_form(table, column, given)

        return MembershipCheck(self.name, self.value, f"{table.name}.{column}", values, self.present, form)


class SincePlan(Struct, frozen=True):
    """How a pipeline finds new rows: the change value of a row, and its range.

    `column` is the source's column, if it is one. `low` and `high` are bounds that a run was given for itself;
    `everything` takes all rows.
    """

    change: Expression
    column: str | None
    nullable: bool
    first: Any
    overlap: Any
    low: Any = None
    high: Any = None
    everything: bool = False

    @property
    def bounded(self) -> bool:
        """True if a run was given bounds for itself."""
        return self.low is not None or self.high is not None or self.everything

    def given(self, options: Mapping[str, Any]) -> SincePlan:
        """The same for a run that was told `since`, `until` or `all`; raises KanalError for values of another type."""
        bounds = {
            bound: change_value(self._zoned(options[name], options.get("zone")), self.change.type)
            for bound, name in (("low", "since"), ("high", "until"))
            if options.get(name) is not None
        }
        return replace(self, **bounds, everything=bool(options.get("all")))

    def _zoned(self, value: Any, zone: str | None) -> Any:
        """An edge of a window, given in a time zone, in the type of the change column."""
        if zone is None or self.change.type.family is not Family.TIMESTAMPTZ:
            return value
        edge = parse_edge(str(value))
        if isinstance(edge, int) or getattr(edge, "tzinfo", None) is not None:
            return value
        local = edge if isinstance(edge, dt.datetime) else dt.datetime(edge.year, edge.month, edge.day)
        return instant(local, zoneinfo.ZoneInfo(zone))

    def lowest(self, watermark: Any) -> Any:
        """From where on rows are read, when the last run came up to a watermark; None for all."""
        if self.bounded:
            return self.low
        if watermark is None or self.overlap is None:
            return watermark if watermark is not None else self.first
        return watermark - self.overlap


class ExchangePlan(Struct, frozen=True):
    """The pipeline that loads the same tables the other way: its step, the journal of its watermark, and what is new to
    it; `deletes` where either way deletes what is missing."""

    step: str
    journal: Journal
    since: SincePlan
    deletes: bool


class PipelinePlan(Struct, frozen=True):
    """A pipeline, compiled and checked against its databases."""

    name: str
    settings: Pipeline
    source: Source
    target: Target
    reading: Reading
    target_table: TableInfo
    where: Expression | None
    #: Of which rows the target's row of the same key is to go.
    delete_when: Expression | None
    lookups: tuple[tuple[LookupPlan, Source, TableInfo], ...]
    columns: tuple[ColumnPlan, ...]
    checks: tuple[CheckPlan, ...]
    key: tuple[str, ...]
    source_types: Mapping[str, SqlType]
    notes: tuple[str, ...] = ()
    since: SincePlan | None = None
    #: Ranges of this column are read side by side.
    split_by: ColumnInfo | None = None
    #: How the keys of the whole source are read, where what it no longer has is deleted and only new rows are loaded.
    keys_reading: Reading | None = None
    #: What the moment of the run is in the column from which a version is valid, if a history is kept.
    closing: ColumnPlan | None = None
    #: References to rows that a later step loads, which are filled in then.
    open_references: tuple[ForeignKey, ...] = ()
    #: The other way of an exchange of which it is one way.
    exchange: ExchangePlan | None = None
    #: So many files are read at once, in their order.
    files_at_once: int = 1
    #: Files are loaded though they were loaded before.
    all_files: bool = False
    kind: str = "pipeline"

    @property
    def writing(self) -> Writing:
        """How its rows are written."""
        settings, columns = self.settings, tuple(column.name for column in self.columns)
        return Writing(
            self.target_table, settings, columns, self.business_key, rule_of(settings), settings.missing == "delete",
            empties_all=settings.max_deletes is not None, open_references=self.open_references,
            filling_key=self.filling_key(self.open_references), history=self.history,
        )  # fmt: skip

    @property
    def own_lookups(self) -> frozenset[str]:
        """The look-ups in its own target that see the rows of the load itself."""
        if self.settings.commits.by_batch or rule_of(self.settings).keeps_versions:
            return frozenset()
        place = self.target.place_of(self.target_table)
        own = (lookup.name for lookup, database, table in self.lookups if database.place_of(table) == place)
        return frozenset(own)

    @property
    def empties(self) -> bool:
        """True if the target's rows are removed first."""
        return rule_of(self.settings).empties

    @property
    def history(self) -> HistoryColumns | None:
        """The columns that hold when versions are valid, if a history is kept."""
        found = self.settings.history
        if found is None:
            return None
        table = self.target_table
        names = [column.name if (column := table.column(name)) else name for name in found.overwrite]
        given = [table.column(name) for name in (found.from_, found.until, found.current or "")]
        begins, ends, current = (column.name if column is not None else None for column in given)
        return HistoryColumns(begins or found.from_, ends or found.until, current, tuple(names))

    @property
    def business_key(self) -> tuple[str, ...]:
        """The key that identifies rows; for a history without the moment of the change."""
        history = self.history
        return self.key if history is None else tuple(name for name in self.key if name != history.from_)

    def filling_key(self, keys: Sequence[ForeignKey]) -> tuple[str, ...]:
        """The mapped columns that identify a row, to fill in its references; empty if there are none."""
        later = {name for key in keys for name in key.columns}
        given = {column.name for column in self.columns} - later
        table = self.target_table
        own = (self.key,) if self.writes_by_key else ()
        return next((key for key in (*own, table.primary_key, *table.unique) if key and set(key) <= given), ())

    @property
    def writes_by_key(self) -> bool:
        """True if its rows are merged with the target's rows by a key."""
        return rule_of(self.settings).needs_key

    @property
    def row_key(self) -> tuple[str, ...]:
        """The columns that identify the source's rows, if they are known; they are kept with every reject."""
        table = self.reading.table
        return next(
            (key for key in (table.primary_key, *table.unique) if key and set(key) <= set(self.reading.columns)), ()
        )

    @property
    def reads_all(self) -> bool:
        """True if each run of it reads all of the source."""
        return self.since is None and self.settings.limit is None

    @property
    def carried(self) -> dict[str, str]:
        """Columns whose values go on as they were sent, unless one is not of its type, with those of the source."""
        return {column.name: column.unchanged for column in self.columns if column.carried and column.unchanged}

    @property
    def goes_on_whole(self) -> bool:
        """True if every row of the source's table is one of the target's, and all its values are carried."""
        return self.keeps_rows and len(self.carried) == len(self.columns)

    @property
    def keeps_rows(self) -> bool:
        """True if every row of the source's table is one of the target's, if its values pass."""
        settings = self.settings
        chosen = (self.where, self.delete_when, self.since, settings.limit, settings.source.query, settings.history)
        if any(one is not None for one in chosen) or self.lookups or self.checks or self.exchange is not None:
            return False
        table, sources = self.reading.table, self.carried
        named = {sources.get(name) for name in self.key}
        return not self.key or any(set(key) <= named for key in (table.primary_key, *table.unique) if key)

    @property
    def may_move(self) -> bool:
        """True if the target's engine may take the rows by itself."""
        settings = self.settings
        if not rule_of(settings).inserts_all or settings.commits.by_batch or self.reading.order_by:
            return False
        if not self.goes_on_whole or not self.source.moves_to(self.target):
            return False
        return not self.source.shares_lock_with(self.target, self.reading, self.target_table)

    @property
    def can_leave_progress(self) -> bool:
        """True if the target records what the step commits."""
        return Writes.REMEMBER in self.target.writes

    @property
    def swaps(self) -> bool:
        """True if its target is exchanged for a new table, if several workers load it."""
        return self.settings.publish == "swap" and self.empties and self.settings.split is not None

    @property
    def rebuilds(self) -> bool:
        """True if its target's indexes are taken away for the time of the load."""
        return self.settings.rebuild_indexes and self.empties and not self.settings.commits.by_batch

    @property
    def takes_files(self) -> bool:
        """True if it is remembered which files were loaded."""
        settings = self.settings
        asked = settings.loads_each_once or not isinstance(settings.bad_file, str)
        return Reads.FILES in self.source.reads and asked

    @property
    def takes_only_new(self) -> bool:
        """True if a run leaves out what an earlier one has loaded."""
        if self.since is not None:
            return not self.since.bounded
        return self.takes_files and self.settings.loads_each_once and not self.all_files

    @property
    def timeout(self) -> float | None:
        """The seconds that it may take."""
        return self.settings.timeout

    @property
    def uses(self) -> dict[Connection, int]:
        """The databases that it uses, with how many connections."""
        others: list[Connection] = [database for _, database, _ in self.lookups]
        others += [check.members[0] for check in self.checks if check.members is not None]
        weights: dict[Connection, int] = dict.fromkeys([self.target, *others], 1)
        return weights | {self.source: self.settings.split.parts if self.settings.split else 1}

    @property
    def writes(self) -> tuple[Connection, ...]:
        """The databases that it writes to."""
        return (self.target,)


class CommandPlan(Struct, frozen=True):
    """A command with its connection and the text of its SQL; or a pipeline of which there is nothing to be done, and
    why."""

    name: str
    database: Target
    sql: str
    timeout: float | None = None
    kind: str = "command"
    idle: str = ""

    @property
    def uses(self) -> dict[Connection, int]:
        """The databases that it uses, with how many connections."""
        return {self.database: 1}

    @property
    def writes(self) -> tuple[Connection, ...]:
        """The databases that it writes to."""
        return (self.database,)


StepPlan = PipelinePlan | CommandPlan


class Group(Struct, frozen=True):
    """Steps that one transaction on their target makes visible together."""

    database: Target
    steps: tuple[str, ...]


class NewTable(Struct, frozen=True):
    """A target table that is missing, and the step that creates it."""

    step: str
    database: Target
    table: TableInfo
    notes: tuple[str, ...] = ()
    #: References to tables that are made after it, for those refer to it too.
    later: tuple[ForeignKey, ...] = ()

    @property
    def definitions(self) -> list[str]:
        """The SQL that makes it."""
        return self.database.ddl.definitions(self.table)

    @property
    def references(self) -> list[str]:
        """The SQL that makes, once all tables are there, its references to some that are made after it."""
        return [self.database.ddl.reference(self.table, key) for key in self.later]


class Difference(Struct, frozen=True):
    """A column of a target that is missing (`there` is None), or does not hold all that the mapping may give it.

    `there` and `wanted` are types as the database writes them; `sql` is the ALTER that makes it fit, if one can.
    `harmless` ones only add or widen, so that what the table holds stays as it is.
    """

    step: str
    table: str
    column: str
    there: str | None
    wanted: str
    sql: str | None
    harmless: bool
    database: Target


def refuse_swap(plan: PipelinePlan) -> None:
    """Raise KanalError if exchanging a target for a new table would lose something."""
    reasons = as_swapping(plan.target).why_not_swapped(plan.target_table)
    said = f"{plan.target_table.name} cannot be exchanged for a new table"
    _refuse(said, reasons, 'set publish = "rows", by which the rows are exchanged and the table stays')


def refuse_rebuild(plan: PipelinePlan) -> None:
    """Raise KanalError if rebuilding a target's indexes would lose something."""
    reasons = as_rebuilding(plan.target).why_not_rebuilt(plan.target_table)
    _refuse(f"the indexes of {plan.target_table.name} cannot be rebuilt", reasons, "leave rebuild_indexes out")


def _refuse(said: str, reasons: Sequence[str], remedy: str) -> None:
    if reasons:
        named = "; ".join(reasons[:5]) + ("; …" if len(reasons) > 5 else "")
        raise KanalError(f"{said}: {named}", remedy)


#: Where a table is named in a job: connection, schema and name.
TablePlace = tuple[str, str | None, str]


class JobPlan(Struct):
    """A job ready to run: its steps in order, their dependencies, and notes."""

    job: JobDefinition
    steps: list[StepPlan]
    waits: list[Wait]
    connections: dict[str, Connection]
    notes: list[Problem] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)
    new_tables: list[NewTable] = field(default_factory=list)
    differences: list[Difference] = field(default_factory=list)
    #: Waits for rows that are referred to, given up since else steps would wait for each other in a circle.
    given_up: list[Wait] = field(default_factory=list)
    #: The present shapes of its tables, for the run log, and their descriptions, without tables to be created.
    seen: list[SeenTable] = field(default_factory=list)
    tables: dict[TablePlace, TableInfo] = field(default_factory=dict)
    #: False if its connections are others' too.
    owns_connections: bool = True

    def dispose(self) -> None:
        """Close its databases."""
        for database in self.connections.values() if self.owns_connections else ():
            database.dispose()

    @property
    def limits(self) -> dict[str, int]:
        """How many connections at once some of the databases, by name, allow."""
        connections = self.job.connection.items()
        return {name: connection.max_parallel for name, connection in connections if connection.max_parallel}
