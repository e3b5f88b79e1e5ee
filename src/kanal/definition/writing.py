"""Writes a job as a TOML file that reads back as an equal job."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from kanal.core.errors import KanalError
from kanal.definition.base import Model
from kanal.definition.connection import Connection
from kanal.definition.models import Column, JobDefinition
from kanal.definition.resources import ResourceField, SignIn
from kanal.definition.table_places import Place

if TYPE_CHECKING:
    from tomlkit.items import InlineTable, Table


def job_text(job: JobDefinition) -> str:
    """The job as TOML: one table for each connection, pipeline and so on, in the order in which they were given."""
    import tomlkit  # which only writing needs

    document = tomlkit.document()
    document["job"] = job.job
    for name, value in job.given().items():
        key = _key(job, name)
        if name == "job" or value in ({}, None):
            continue
        if isinstance(value, Model):
            document[key] = _table(value)
        elif not isinstance(value, dict):
            document[key] = value
        elif name == "parameters":
            table = tomlkit.table()
            table.update({key: _inline(part) for key, part in value.items()})
            document[key] = table
        else:
            group = tomlkit.table(is_super_table=True)
            for inner, model in value.items():
                group[inner] = _table(model)
            document[key] = group
    return tomlkit.dumps(document)


def write_job(job: JobDefinition, path: Path) -> None:
    """Write the job to a file; raises KanalError if that cannot be done."""
    if not all(isinstance(function, str) for function in job.functions):
        raise KanalError(
            "The job names functions of this program, which a job file cannot hold",
            "put them into a file, and name that",
        )
    for name, pipeline in job.pipeline.items():
        if pipeline.source.data is not None or pipeline.target.memory is not None:
            raise KanalError(
                f"Pipeline {name} reads or fills data of this program, which a job file cannot hold",
                "name tables of connections instead",
            )
    try:
        path.write_text(job_text(job), encoding="utf-8")
    except OSError as error:
        raise KanalError(f"The job cannot be written to {path}: {error.strerror}", "name another file") from None


def _key(model: Model, name: str) -> str:
    return type(model).model_fields[name].alias or name


def connection_text(name: str, connection: Connection) -> str:
    """The lines of a connection, behind its heading, with its resources."""
    import tomlkit

    group = tomlkit.table(is_super_table=True)
    group[name] = _table(connection)
    document = tomlkit.document()
    document["connection"] = group
    return tomlkit.dumps(document).partition("\n")[2].rstrip()


#: Keys whose members have lines of their own; whether each is a table.
_IN_TABLES = {"columns": False, "lookup": True, "resource": True, "fields": False}


def _table(model: Model) -> Table:
    import tomlkit

    table = tomlkit.table()
    for name, value in model.given().items():
        if value is None:
            continue
        if name in _IN_TABLES and isinstance(value, dict):
            of_tables = _IN_TABLES[name]
            inner = tomlkit.table(is_super_table=of_tables)
            for key, part in value.items():
                inner[key] = _table(part) if of_tables else _inline(part)
            table[_key(model, name)] = inner
        else:
            table[_key(model, name)] = _inline(value)
    return table


def _inline(value: Any) -> Any:
    if isinstance(value, Place) and not (value.files or value.format or getattr(value, "query", None)):
        return value.label
    if isinstance(value, Column) and set(value.given()) == {"from_"}:
        return value.from_
    if isinstance(value, ResourceField) and set(value.given()) - {"pointer"} == {"type"} and value.pointer is None:
        return value.type
    if isinstance(value, SignIn) and value.way is not None:
        return value.way
    if isinstance(value, Model):
        return _inline_table({_key(value, name): part for name, part in value.given().items() if part is not None})
    if isinstance(value, dict):
        return _inline_table(value)
    return list(value) if isinstance(value, tuple) else value


def _inline_table(values: dict[str, Any]) -> InlineTable:
    import tomlkit

    table = tomlkit.inline_table()
    for name, value in values.items():
        table[name] = _inline(value)
    return table
