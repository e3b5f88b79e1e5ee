"""What planning a pipeline works with."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Protocol

from msgspec import Struct

from kanal.connections import TableInfo
from kanal.connections.base import Connection, Source, Target, as_source, as_target
from kanal.core.errors import KanalError
from kanal.core.expressions.registry import Function
from kanal.core.nearest import did_you_mean
from kanal.core.types import Family
from kanal.definition import Format, JobDefinition, Pipeline, Table
from kanal.definition import Source as SourcePlace
from kanal.definition.problems import KeyPath
from kanal.runner.job_plan import Difference
from kanal.runner.planning.job_tables import JobTables, format_named
from kanal.runner.planning.problems import Problems
from kanal.runner.write_rule import WriteRule
from kanal.runner.write_rules import rule_of

#: The types of columns that hold when a version is valid.
MOMENTS = (Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ)


class NoFiles(KanalError):
    """There is no file yet, or none any more, of a pipeline that loads each file once."""


class Planner(Protocol):
    """What planning a pipeline needs of its job."""

    job: JobDefinition
    problems: Problems
    connections: dict[str, Connection]
    functions: Mapping[str, Function | KanalError]
    tables: JobTables
    #: Columns that tables lack, if these are to be added; otherwise they are problems.
    adding: list[Difference] | None
    #: Pipelines whose sources are derived from what others will write.
    deriving: set[str]

    def target_table(self, step: str) -> TableInfo | None:
        """The table that another pipeline of the job fills; None if it is not known."""


class PipelineScope(Struct, frozen=True):
    """A pipeline with its settings; problems are reported to the planner of its job."""

    planner: Planner
    name: str
    settings: Pipeline
    rule: type[WriteRule]

    @classmethod
    def of(cls, planner: Planner, name: str) -> PipelineScope:
        """The scope of a pipeline."""
        settings = planner.job.effective(name)
        return cls(planner, name, settings, rule_of(settings))

    @property
    def job(self) -> JobDefinition:
        """The job."""
        return self.planner.job

    @property
    def path(self) -> tuple[str, str]:
        """Where the pipeline is in the job."""
        return "pipeline", self.name

    @property
    def source(self) -> Source:
        """The connection that rows come from; raises KanalError if it is no source."""
        return as_source(self.planner.connections[self.settings.source.connection])

    @property
    def target(self) -> Target:
        """The connection that rows go to; raises KanalError if it is no target."""
        return as_target(self.planner.connections[self.settings.target.connection])

    def problem(self, key: str, what: str, remedy: str = "") -> None:
        """Report a problem of a key of the pipeline."""
        self.planner.problems.add((*self.path, key), what, remedy)

    def problem_at(self, path: KeyPath, what: str, remedy: str = "") -> None:
        """Report a problem of any key of the job."""
        self.planner.problems.add(path, what, remedy)

    def columns_named(self, key: str, names: Sequence[str], table: TableInfo, place: str) -> tuple[str, ...]:
        """The columns of a table that a key names, as the table spells them; reports names that `place` lacks."""
        found = []
        for name in names:
            column = table.column(name)
            if column is None:
                self.problem(key, f'there is no column "{name}" in {place}', did_you_mean(name, table.names))
            else:
                found.append(column.name)
        return tuple(found)

    @property
    def problem_count(self) -> int:
        """The number of problems found so far."""
        return len(self.planner.problems.found)

    @property
    def functions(self) -> Mapping[str, Function | KanalError]:
        """The functions of one's own that expressions may use."""
        return self.planner.functions

    def database(self, connection: str) -> Connection | None:
        """The database of a connection; None after a problem."""
        return self.planner.connections.get(connection)

    def table(self, place: SourcePlace | Table) -> TableInfo | None:
        """The table of a place; None if the connection is not usable."""
        return self.planner.tables.table(place)

    def format_named(self, name: str | None) -> Format | None:
        """The format of files with this name; raises KanalError if the job has none."""
        return format_named(self.job, name)

    def at(self, *keys: str) -> AbstractContextManager[None]:
        """While this lasts, errors become problems of that key."""
        return self.planner.problems.at((*self.path, *keys))

    def has_own(self, key: str) -> bool:
        """True if the pipeline itself sets a key, and not the defaults of the job."""
        return key in self.job.pipeline[self.name].model_fields_set
