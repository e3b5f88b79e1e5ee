"""The tables that a job uses: as databases describe them, or as pipelines will create them."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from msgspec.structs import replace

from kanal.connections import TableInfo
from kanal.connections.base import Connection, as_target
from kanal.connections.roles import Reads, Writes, lacks
from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.definition import Format, JobDefinition, JobError, Source, Table
from kanal.runner.job_plan import NewTable, PipelinePlan, StepPlan, TablePlace
from kanal.runner.planning.new_tables import references
from kanal.runner.planning.problems import Problems

#: The table that a pipeline creates, by the pipeline's name, with notes; None if its source is not usable.
Created = Callable[[str], tuple[TableInfo, tuple[str, ...]] | None]


class JobTables:
    """Describes each table once. With `create`, every pipeline may create its target; else those that allow it."""

    def __init__(
        self,
        job: JobDefinition,
        connections: Mapping[str, Connection],
        problems: Problems,
        known: Mapping[TablePlace, TableInfo],
        create: bool,
        created: Created,
    ) -> None:
        self._job, self._connections, self._problems = job, connections, problems
        self._create, self._created = create, created
        self._tables: dict[TablePlace, TableInfo] = dict(known)
        #: The tables to be created.
        self.new: dict[TablePlace, NewTable] = {}
        self._unusable: set[str] = set()
        self._makers: set[str] = set()
        #: Tables to be created whose columns are not known yet, or because of a reported problem; with the step.
        self._unplanned: dict[TablePlace, str] = {}

    @property
    def described(self) -> dict[TablePlace, TableInfo]:
        """The tables that exist, as their databases describe them."""
        return {place: table for place, table in self._tables.items() if place not in self.new}

    def table(self, place: Source | Table) -> TableInfo | None:
        """The table of a place; None if it is not known because of a reported problem, such as a failed connection."""
        database = self._connections.get(place.connection)
        if database is None or place.connection in self._unusable:
            return None
        key = (place.connection, place.schema_, place.name)
        if place.files is not None or Reads.FILES in database.reads:
            return database.catalogue.describe_files(place.pattern, format_named(self._job, place.format))
        if key not in self._tables:
            try:
                database.catalogue.table_names(place.schema_)
            except KanalError as error:
                self._unusable.add(place.connection)
                self._problems.add_error(("connection", place.connection), error)
                return None
            if key in self._unplanned:
                return None
            self._tables[key] = self._describe(key, place, database)
        return self._tables[key]

    def is_being_planned(self, place: Table, step: str) -> bool:
        """True for a table that a step will create and whose columns are not known yet."""
        return self._unplanned.get((place.connection, place.schema_, place.name)) == step

    def is_new(self, database: Connection, table: TableInfo) -> bool:
        """True for a table that does not exist yet, and will be created."""
        return any(new.database is database and new.table is table for new in self.new.values())

    def expect(self) -> None:
        """Announce to each database which of its tables the job names."""
        job = self._job
        places: list[Source | Table] = []
        for pipeline in job.pipeline.values():
            places += [pipeline.target, *(lookup.table for lookup in pipeline.lookup.values())]
            places += [pipeline.source] if pipeline.source.table is not None else []
        places += [rule.table_column.table for rule in job.check_.values() if rule.table_column is not None]
        named: dict[tuple[str, str | None], set[str]] = {}
        for place in places:
            if (place.connection, place.schema_, place.name) not in self._tables:
                named.setdefault((place.connection, place.schema_), set()).add(place.name)
        for (connection, schema), tables in named.items():
            if connection in self._connections:
                self._connections[connection].catalogue.expect(schema, tables)

    def add_references(self, steps: dict[str, StepPlan]) -> None:
        """Give the tables to be created the foreign keys of their sources, and those to the tables they look up."""
        for place, new in self.new.items():
            plan = steps.get(new.step)
            if not isinstance(plan, PipelinePlan):
                continue
            found = references(plan, [step for step in steps.values() if isinstance(step, PipelinePlan)])
            indexed = {*new.table.indexes, *new.table.unique, new.table.primary_key}
            keys = [key.columns for key in found]
            wanted = [key for key in keys if not any(index[: len(key)] == key for index in indexed)]
            indexes = (*new.table.indexes, *dict.fromkeys(wanted))
            table = replace(new.table, foreign_keys=tuple(found), indexes=indexes)
            self.new[place] = replace(new, table=table)
            for name, step in steps.items():
                if isinstance(step, PipelinePlan) and step.target_table is new.table:
                    steps[name] = replace(step, target_table=table)

    def _describe(self, key: TablePlace, place: Source | Table, database: Connection) -> TableInfo:
        """The table of a place: as the database describes it, or as the first pipeline that loads it will create it."""
        maker = None if database.catalogue.has_table(place.schema_, place.name) else self._maker(place)
        if maker is None and database.missing_file:
            raise KanalError(
                f"there is no file {database.missing_file} yet, and no table {place.name} in it",
                'let Kanal make both: set create = "missing", or run with --create',
            )
        if maker is None:
            return database.catalogue.describe(place.schema_, place.name)
        if Writes.CREATE not in database.writes:
            raise lacks(database.name, Writes.CREATE)
        self._unplanned[key] = maker
        created = self._created(maker)
        if created is None:
            raise JobError([])  # the problem of the source has been reported
        del self._unplanned[key]
        self.new[key] = NewTable(maker, as_target(database), *created)
        return created[0]

    def _maker(self, place: Source | Table) -> str | None:
        """The first pipeline whose mapping may create a missing table."""
        for name in self._job.pipeline:
            settings = self._job.effective(name)
            target = settings.target
            same = (target.connection, target.schema_) == (place.connection, place.schema_)
            same = same and target.name.casefold() == place.name.casefold()
            wanted = self._create or settings.create == "missing" or target.memory is not None
            if same and wanted and name not in self._makers:
                self._makers.add(name)
                return name
        return None


def format_named(job: JobDefinition, name: str | None) -> Format | None:
    """The format of files with this name; raises KanalError if the job has none."""
    if name is not None and name not in job.format_:
        raise KanalError(f'there is no format "{name}" in the job',
                         did_you_mean(name, job.format_) or f"add [format.{name}]")  # fmt: skip
    return job.format_[name] if name is not None else None


def in_order_of_creation(tables: list[NewTable]) -> list[NewTable]:
    """Tables to be created, without the foreign keys that can only be added once all of them exist."""
    ordered = []
    for place, new in enumerate(tables):
        after = [other.table for other in tables[place + 1 :] if other.database.identity == new.database.identity]
        keys = new.table.foreign_keys if not new.database.ddl.refers_forward else ()
        later = tuple(key for key in keys if any(key.refers_to(table) for table in after))
        now = tuple(key for key in new.table.foreign_keys if key not in later)
        ordered.append(replace(new, table=replace(new.table, foreign_keys=now), later=later))
    return ordered
