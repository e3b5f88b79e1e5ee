"""A job ready to run: what its steps read, compute and write, compiled and checked."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import pyarrow as pa

from kanal.core.expressions import Expression
from kanal.core.newness import change_value
from kanal.core.transformation import ColumnPlan, ExpectCheck, LookupPlan, MembershipCheck, RowCheck, UniqueCheck
from kanal.core.types import SqlType
from kanal.databases import ColumnInfo, TableInfo
from kanal.databases.base import Database
from kanal.databases.reading import Reading
from kanal.definition import JobDefinition, Pipeline, Problem
from kanal.runner.order import Wait
from kanal.runner.write_rules import Writing


@dataclass(frozen=True)
class CheckPlan:
    """A check, compiled over the converted row. It becomes a new RowCheck for each run of the step."""

    name: str
    expect: Expression | None = None
    unique: tuple[str, ...] = ()
    value: Expression | None = None
    members: tuple[Database, TableInfo, str] | None = None
    present: bool = True

    def begin(self, read_columns: Callable[[Database, TableInfo, list[str]], Mapping[str, pa.Array]]) -> RowCheck:
        """The check as it begins a load, with the values of its table's column read."""
        if self.expect is not None:
            return ExpectCheck(self.name, self.expect)
        if self.members is None or self.value is None:
            return UniqueCheck(self.name, self.unique)
        database, table, column = self.members
        values = read_columns(database, table, [column])[column]
        return MembershipCheck(self.name, self.value, f"{table.name}.{column}", values, self.present)


@dataclass(frozen=True)
class SincePlan:
    """How a pipeline finds what is new: the change value of a row, and what is said of a range of it.

    `column` is the source's column, where it is one. `low` and `high` are bounds that a run was given for itself;
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
    def asked(self) -> bool:
        """True where a run was given bounds for itself."""
        return self.low is not None or self.high is not None or self.everything

    def given(self, options: Mapping[str, Any]) -> SincePlan:
        """The same for a run that was told `since`, `until` or `all`; raises KanalError for values of another type."""
        bounds = {
            bound: change_value(options[name], self.change.type)
            for bound, name in (("low", "since"), ("high", "until"))
            if options.get(name) is not None
        }
        return replace(self, **bounds, everything=bool(options.get("all")))

    def lowest(self, mark: Any) -> Any:
        """From where on rows are read, when the last run came up to a mark; None for all."""
        if self.asked:
            return self.low
        if mark is None or self.overlap is None:
            return mark if mark is not None else self.first
        return mark - self.overlap


@dataclass(frozen=True)
class PipelinePlan:
    """A pipeline, compiled and checked against its databases."""

    name: str
    settings: Pipeline
    source: Database
    target: Database
    reading: Reading
    target_table: TableInfo
    where: Expression | None
    lookups: tuple[tuple[LookupPlan, Database, TableInfo], ...]
    columns: tuple[ColumnPlan, ...]
    checks: tuple[CheckPlan, ...]
    key: tuple[str, ...]
    source_types: Mapping[str, SqlType]
    notes: tuple[str, ...] = ()
    since: SincePlan | None = None
    #: Ranges of this column are read side by side.
    split_by: ColumnInfo | None = None
    kind: str = "pipeline"

    @property
    def writing(self) -> Writing:
        """How its rows are written."""
        columns = tuple(column.name for column in self.columns)
        return Writing(self.target_table, self.settings, columns, self.key, self.settings.missing == "delete")

    @property
    def leaves_progress(self) -> bool:
        """True where the target must tell what of the step is committed."""
        settings = self.settings
        return settings.write == "append" or settings.commit == "batch" or self.since is not None

    @property
    def timeout(self) -> float | None:
        """The seconds that it may take."""
        return self.settings.timeout

    @property
    def uses(self) -> dict[Database, int]:
        """The databases that it uses, with how many connections."""
        others = [database for _, database, _ in self.lookups]
        others += [check.members[0] for check in self.checks if check.members is not None]
        weights = dict.fromkeys([self.target, *others], 1)
        return weights | {self.source: self.settings.split.parts if self.settings.split else 1}

    @property
    def writes(self) -> tuple[Database, ...]:
        """The databases that it writes to."""
        return (self.target,)


@dataclass(frozen=True)
class CommandPlan:
    """A command with its connection and the text of its SQL."""

    name: str
    database: Database
    sql: str
    timeout: float | None = None
    kind: str = "command"

    @property
    def uses(self) -> dict[Database, int]:
        """The databases that it uses, with how many connections."""
        return {self.database: 1}

    @property
    def writes(self) -> tuple[Database, ...]:
        """The databases that it writes to."""
        return (self.database,)


StepPlan = PipelinePlan | CommandPlan


@dataclass(frozen=True)
class Group:
    """Steps that one transaction on their target makes visible together."""

    database: Database
    steps: tuple[str, ...]


@dataclass(frozen=True)
class NewTable:
    """A target table that is missing, and what of the job it is made for."""

    step: str
    database: Database
    table: TableInfo
    notes: tuple[str, ...] = ()

    @property
    def definitions(self) -> list[str]:
        """The SQL that makes it."""
        return self.database.definitions(self.table)


@dataclass(frozen=True)
class Difference:
    """A column of a target that is missing (`there` is None), or does not hold all that the mapping may give it.

    `there` and `wanted` are types as the database writes them; `sql` would mend it, where that can be done in place.
    """

    step: str
    table: str
    column: str
    there: str | None
    wanted: str
    sql: str | None


@dataclass
class JobPlan:
    """A job ready to run: its steps in order, what waits for what, and what is worth knowing about it."""

    job: JobDefinition
    steps: list[StepPlan]
    waits: list[Wait]
    databases: dict[str, Database]
    notes: list[Problem] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)
    new_tables: list[NewTable] = field(default_factory=list)
    differences: list[Difference] = field(default_factory=list)

    def dispose(self) -> None:
        """Close its databases."""
        for database in self.databases.values():
            database.dispose()

    @property
    def limits(self) -> dict[str, int]:
        """How many connections at once some of the databases, by name, allow."""
        connections = self.job.connection.items()
        return {name: connection.max_parallel for name, connection in connections if connection.max_parallel}
