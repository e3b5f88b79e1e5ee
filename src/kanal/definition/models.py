"""What a job is: the models behind the job file and the Python interface, one and the same."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal, Self

from msgspec.structs import replace
from pydantic import BeforeValidator, Field, PrivateAttr, ValidationError, field_validator, model_validator

from kanal.core.conversions import Options
from kanal.core.conversions.rounding import ROUNDING
from kanal.core.errors import shortened
from kanal.core.nearest import did_you_mean
from kanal.core.windows import parse_time
from kanal.definition.base import Model, known_type
from kanal.definition.check import Check
from kanal.definition.commits import COMMIT_MODES, CommitMode
from kanal.definition.connection import Connection, RunLog, Seconds, _as_float, is_time, redacted
from kanal.definition.environments import CHANGED, Environment, merged
from kanal.definition.formats import Format
from kanal.definition.mistakes import problems_of
from kanal.definition.places import split_table
from kanal.definition.problems import JobError, Problem
from kanal.definition.schedule import Notify, Schedule
from kanal.definition.secrets import Secret, least_rows, list_of, share_or_count, within
from kanal.definition.table_places import Source, Table

Scalar = bool | int | float | str | dt.datetime | dt.date | dt.time
Rounding = Literal["floor", "ceiling", "half_up", "half_even", "toward_zero"]
assert set(ROUNDING) == set(Rounding.__args__)  # type: ignore[attr-defined]

_NAME = re.compile(r"[^\s:,\"'][^:,\"']*")


class Conversion(Model):
    """How values are converted to a type; also by name, under [conversion.NAME], for use in many columns."""

    type: str | None = None
    format: Annotated[str | list[str] | None, Field(min_length=1)] = None
    decimal_mark: str | None = None
    grouping_mark: str | None = None
    rounding: Rounding | None = None
    too_long: Literal["reject", "cut"] | None = None
    time_zone: str | None = None
    ambiguous: Literal["earlier", "later"] | None = None
    true_values: list[str] | None = None
    false_values: list[str] | None = None
    null_values: list[str] | None = None
    encoding: str | None = None
    default: Scalar | None = None
    if_bad: Any = "reject"

    _type_is_known = field_validator("type")(known_type)

    @field_validator("if_bad")
    @classmethod
    def _known_way(cls, value: Any) -> Any:
        if value in ("reject", "null", "fail"):
            return value
        if isinstance(value, dict) and set(value) == {"value"} and isinstance(value["value"], Scalar):
            return value
        raise ValueError('it is not known: write "reject", "null", "fail" or { value = … }')

    def options(self) -> Options:
        """The options of the conversion itself."""

        def words(values: list[str] | None) -> tuple[str, ...] | None:
            return None if values is None else tuple(values)

        return Options(
            format=tuple(self.format) if isinstance(self.format, list) else self.format,
            decimal_mark=self.decimal_mark,
            grouping_mark=self.grouping_mark,
            rounding=self.rounding,
            too_long=self.too_long,
            time_zone=self.time_zone,
            ambiguous=self.ambiguous,
            true_values=words(self.true_values),
            false_values=words(self.false_values),
            null_values=words(self.null_values),
            encoding=self.encoding,
        )


class Column(Conversion):
    """A target column: the SQL expression it comes from, and how its values are converted. As text: the expression."""

    from_: str = Field(alias="from")
    conversion: str | None = None

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        return {"from": value} if isinstance(value, str) else value


class AsOf(Model):
    """The moment for which a version is looked up, as an expression, and the columns of the table that hold when a
    version begins and ends. These are known if a pipeline of the job keeps a history in the table. As text: the moment.
    """

    at: str
    from_: str | None = Field(default=None, alias="from")
    until: str | None = None

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        return {"at": value} if isinstance(value, str) else value


class Lookup(Model):
    """A table looked up: `on` pairs its columns with expressions over the source row; `as_of` takes the version that
    was valid at a moment."""

    table: Table
    on: dict[str, str] = Field(min_length=1)
    missing: Literal["reject", "null"] = "reject"
    null_key: Literal["reject", "null"] = "reject"
    as_of: AsOf | None = None


def _functions_of(value: Any) -> Any:
    found = list_of(value)
    for entry in found if isinstance(found, list) else []:
        if not isinstance(entry, str) and not hasattr(entry, "kanal_function"):
            raise ValueError("it has something that is no function: name a file or module, or decorate a function of "
                             "this program with @kanal.function")  # fmt: skip
    return found


class History(Model):
    """How versions of a row are kept: the target's columns for the beginning and the end of a version, for the current
    one and for a number; the expression of a change's moment; and columns that are overwritten in all versions."""

    from_: str = Field(alias="from")
    until: str
    current: str | None = None
    surrogate: str | None = None
    at: str | None = None
    overwrite: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)


class WhenLoaded(Model):
    """What becomes of a source's files once their load is committed: they are moved to a folder of the same place, or
    deleted. As text: `"delete"`."""

    move: str | None = Field(default=None, min_length=1)
    delete: bool = False

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if isinstance(value, str):
            if value != "delete":
                raise ValueError(f'"{value}" is not known: write "delete", or {{ move = "FOLDER" }}')
            return {"delete": True}
        return value

    @model_validator(mode="after")
    def _one(self) -> Self:
        if (self.move is None) == (not self.delete):
            raise ValueError('it says nothing clear: write "delete", or { move = "FOLDER" }')
        return self


class BadFile(Model):
    """The folder for files that cannot be read; they are moved after the commit."""

    move: str


_Limit = Annotated[int | str | None, BeforeValidator(lambda v: None if v is None else share_or_count(v))]
_Least = Annotated[int | str | None, BeforeValidator(lambda v: None if v is None else least_rows(v))]


class Settings(Model):
    """What [defaults] can set for all pipelines, and each pipeline for itself."""

    batch_rows: int = Field(default=10_000, ge=1, le=10_000_000)
    batch_bytes: int = Field(default=64 * 1024 * 1024, ge=1)
    max_rejects: _Limit = None
    write: Literal["append", "truncate", "merge", "history"] = "append"
    duplicates: Literal["reject", "first", "last"] = "reject"
    reject: Literal["row", "all"] = "row"
    list_reasons: Literal["first", "all"] = "first"
    checks: list[str] = Field(default_factory=list)
    matched: Literal["update", "keep"] = "update"
    not_matched: Literal["insert", "ignore"] = "insert"
    missing: Literal["keep", "delete"] = "keep"
    max_deletes: _Limit = None
    min_rows: _Least = None
    commit: Literal["step", "batch", "job"] = "step"
    retries: int = Field(default=3, ge=0, le=100)
    retry_wait: Annotated[float, BeforeValidator(_as_float)] = Field(default=2.0, ge=0, le=3600)
    timeout: Seconds = None
    create: Literal["never", "missing"] = "never"
    publish: Literal["rows", "swap"] = "rows"
    rebuild_indexes: bool = False
    generated: Literal["own", "keep"] = "own"
    columns_differ: Literal["fail", "reject", "null"] = "fail"
    bad_file: Literal["fail", "leave"] | BadFile = "fail"
    files_once: bool | Literal["name"] = False
    when_loaded: WhenLoaded | None = None
    min_age: Seconds = None

    @property
    def commits(self) -> CommitMode:
        """What `commit` means."""
        return COMMIT_MODES[self.commit]

    @property
    def loads_each_once(self) -> bool:
        """True if a pipeline remembers which files it has loaded."""
        return bool(self.files_once) or self.when_loaded is not None

    def allows_rejects(self, rejected: int, read: int) -> bool:
        """True if `max_rejects` allows this number of rejected rows, of those read."""
        return within(self.max_rejects, rejected, read)

    def allows_deletes(self, deleted: int, rows: int) -> bool:
        """True if `max_deletes` allows this number of deleted rows, of those that the target had."""
        return within(self.max_deletes, deleted, rows)


class Since(Model):
    """The change column of a pipeline that loads only new rows: a timestamp, a date or a growing number.

    `column` is an expression over the source row. Without a watermark, rows from `first` on are loaded, or all.
    `overlap` is a time such as "2 hours", or a number: so much before the watermark is read again. As text: the column.
    """

    column: str
    first: int | float | dt.datetime | dt.date | str | None = None
    overlap: int | str | None = None

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        return {"column": value} if isinstance(value, str) else value

    @field_validator("overlap")
    @classmethod
    def _known_overlap(cls, value: int | str | None) -> int | str | None:
        if isinstance(value, str) and not is_time(value):
            raise ValueError('it is no overlap: write a number, or a time such as "2 hours", "30 minutes" or "1 day"')
        return value

    @property
    def overlap_time(self) -> dt.timedelta | None:
        """The overlap, if it is a time."""
        if not isinstance(self.overlap, str):
            return None
        return parse_time(self.overlap)


class Split(Model):
    """How a large table is read side by side: in ranges of a column. As a number: this many parts, by its key.

    With the snapshot `none`, each part may be of another moment.
    """

    parts: int = Field(ge=2, le=1000)
    column: str | None = None
    snapshot: Literal["common", "none"] = "common"

    @model_validator(mode="before")
    @classmethod
    def _from_number(cls, value: Any) -> Any:
        return {"parts": value} if isinstance(value, int) and not isinstance(value, bool) else value


class Pipeline(Settings):
    """One table-to-table load."""

    source: Source
    target: Table
    columns: dict[str, Column] = Field(default_factory=dict)
    same: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)
    skip: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)
    where: str | None = None
    key: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)
    newer_by: str | None = None
    other_way: str | None = None
    delete_when: str | None = None
    history: History | None = None
    lookup: dict[str, Lookup] = Field(default_factory=dict)
    after: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)
    not_after: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)
    limit: int | None = Field(default=None, ge=0)
    order_by: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)
    since: Since | None = None
    split: Split | None = None
    partition_by: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)
    file_rows: int | None = Field(default=None, ge=1)
    first_sql: str | None = None
    last_sql: str | None = None


class Command(Model):
    """A SQL statement run on a connection, ordered among the pipelines."""

    connection: str
    sql: str | None = None
    sql_file: str | None = None
    timeout: Seconds = None
    after: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)

    @model_validator(mode="after")
    def _one(self) -> Self:
        if (self.sql is None) == (self.sql_file is None):
            said = "both sql and sql_file are given" if self.sql is not None else "neither sql nor sql_file is given"
            raise ValueError(f"{said}: give one of the two")
        return self


class JobDefinition(Model):
    """Pipelines and commands with their connections, dependencies and rules: the whole of a job file."""

    #: Tables of the file whose keys are names that its author chose.
    NAMED: ClassVar[tuple[str, ...]] = (
        "connection",
        "pipeline",
        "command",
        "check",
        "conversion",
        "format",
        "notify",
        "environment",
    )

    job: str = Field(min_length=1)
    on_failure: Literal["continue", "stop"] = "continue"
    workers: int = Field(default=1, ge=1, le=64)
    connection: dict[str, Connection] = Field(default_factory=dict)
    defaults: Settings = Field(default_factory=Settings)
    run_log: RunLog = Field(default_factory=RunLog)
    parameters: dict[str, Scalar | Secret] = Field(default_factory=dict)
    functions: Annotated[list[str | Any], BeforeValidator(_functions_of)] = Field(default_factory=list)
    conversion: dict[str, Conversion] = Field(default_factory=dict)
    check_: dict[str, Check] = Field(default_factory=dict, alias="check")
    format_: dict[str, Format] = Field(default_factory=dict, alias="format")
    pipeline: dict[str, Pipeline] = Field(default_factory=dict)
    command: dict[str, Command] = Field(default_factory=dict)
    schedule: Schedule | None = None
    notify: dict[str, Notify] = Field(default_factory=dict)
    environment: dict[str, Environment] = Field(default_factory=dict)

    _folder: Path = PrivateAttr(default_factory=Path.cwd)
    _texts: Path | None = PrivateAttr(default=None)
    _lines: dict[tuple[str, ...], tuple[Path, int]] = PrivateAttr(default_factory=dict)
    _environment: str | None = PrivateAttr(default=None)
    _secret: dict[str, Secret | None] = PrivateAttr(default_factory=dict)

    @field_validator("connection", "pipeline", "command", "check_", "conversion", "format_", "notify", "environment")
    @classmethod
    def _good_names(cls, value: dict[str, Any]) -> dict[str, Any]:
        for name in value:
            if not _NAME.fullmatch(name):
                raise ValueError(
                    f'"{shortened(name)}" is not a good name: use letters, digits, - and _, without colon or quotes'
                )
        return value

    @field_validator("environment")
    @classmethod
    def _no_all(cls, value: dict[str, Environment]) -> dict[str, Environment]:
        if "all" in value:
            raise ValueError('"all" stands for all environments: give this one another name')
        return value

    def __eq__(self, other: object) -> bool:
        return isinstance(other, JobDefinition) and self.model_dump() == other.model_dump()

    __hash__ = None  # type: ignore[assignment]

    @property
    def folder(self) -> Path:
        """The folder that relative paths in the job start from: the job file's."""
        return self._folder

    @property
    def texts(self) -> Path:
        """The folder of the job's SQL and function files: that of the job file, or of an unpacked bundle."""
        return self._texts or self._folder

    @property
    def chosen_environment(self) -> str | None:
        """The environment that the job is in; None for none."""
        return self._environment

    @property
    def log_name(self) -> str:
        """The job's name in the run log, where its runs in each environment stand apart."""
        return f"{self.job}@{self._environment}" if self._environment else self.job

    def in_environment(self, name: str) -> Self:
        """The job with the changes of an environment; raises JobError if the job does not have it."""
        if name not in self.environment:
            known = f"it has {', '.join(self.environment)}" if self.environment else "it has no [environment.…]"
            remedy = did_you_mean(name, self.environment) or known
            raise JobError([Problem(("environment",), f'the job has no environment "{shortened(name)}"', remedy)])
        over = {key: value for key, value in self.environment[name].given().items() if value not in ({}, None)}
        here = ("environment", name)
        lines = self._lines | {
            path[2:]: place for path, place in self._lines.items() if path[:2] == here and len(path) > 2
        }
        problems = []
        for table, names in (("connection", list(self.connection)), ("parameters", list(self.parameters))):
            for key in (key for key in over.get(table, {}) if key not in names):
                what = f'the job has no {table.removesuffix("s")} "{shortened(key)}"'
                remedy = did_you_mean(key, names) or f"add it to the job's own [{table}]"
                place = (*here, table, key)
                problems.append(Problem(place, what, remedy, *self.located(place)))
        if problems:
            raise JobError(problems)
        given = self.model_dump(include=set(CHANGED), exclude_unset=True, by_alias=True)
        try:
            part = JobDefinition.model_validate({"job": self.job} | merged(given, over))
        except ValidationError as error:
            found = problems_of(error, JobDefinition, lines)
            raise JobError([replace(one, path=(*here, *one.path)) for one in found]) from None
        job = self.model_copy(update={key: getattr(part, key) for key in CHANGED})
        job._lines, job._environment = lines, name
        return job

    def with_parameters(self, values: Mapping[str, Any], resolved: bool = False) -> Self:
        """The job with these values of its parameters: given for a run, or the `resolved` values of secret ones."""
        job = self.model_copy(update={"parameters": self.parameters | dict(values)})
        places = {name: self.parameters.get(name) for name in values}
        secret = {name: place if resolved else None for name, place in places.items() if isinstance(place, Secret)}
        job._secret = self._secret | secret
        return job

    def is_secret(self, parameter: str) -> bool:
        """True if the value of a parameter is secret."""
        return parameter in self._secret or isinstance(self.parameters.get(parameter), Secret)

    @property
    def given_secrets(self) -> list[str]:
        """The secret parameters whose values were given for a run."""
        return [name for name, place in self._secret.items() if place is None]

    @property
    def unresolved(self) -> Self:
        """The job with the places of its secret parameters instead of the values that were found there."""
        places = {name: place for name, place in self._secret.items() if place is not None}
        return self.model_copy(update={"parameters": self.parameters | places})

    def located(self, path: tuple[str, ...]) -> tuple[Path | None, int | None]:
        """File and line of a key of the job, or of the nearest key above it; None if it came from Python."""
        for length in range(len(path), -1, -1):
            if path[:length] in self._lines:
                file, line = self._lines[path[:length]]
                return file, line if length else None
        return None, None

    def effective(self, name: str) -> Pipeline:
        """A pipeline with the job's defaults filled in, and named conversions in its columns."""
        pipeline = self.pipeline[name]
        columns = {target: self._with_conversion(column) for target, column in pipeline.columns.items()}
        return pipeline.model_copy(update=self.defaults.given() | pipeline.given() | {"columns": columns})

    def _with_conversion(self, column: Column) -> Column:
        """A column with the options of its named conversion that it does not set itself."""
        named = self.conversion.get(column.conversion or "")
        return column if named is None else column.model_copy(update=named.given() | column.given())


__all__ = [
    "Check",
    "Column",
    "Command",
    "Connection",
    "Conversion",
    "Format",
    "JobDefinition",
    "Lookup",
    "Pipeline",
    "RunLog",
    "Secret",
    "Settings",
    "Since",
    "Source",
    "Split",
    "Table",
    "redacted",
    "split_table",
]
