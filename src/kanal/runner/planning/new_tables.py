"""Target tables that are missing: what they refer to, and how they are made."""

from __future__ import annotations

from collections.abc import Sequence

from kanal.connections import ForeignKey
from kanal.connections.errors import DatabaseError
from kanal.core.errors import KanalError
from kanal.runner.job_plan import Difference, JobPlan, NewTable, PipelinePlan


def references(plan: PipelinePlan, plans: Sequence[PipelinePlan]) -> list[ForeignKey]:
    """The foreign keys of a table to be created, to tables that the job fills in the same database.

    They are those of the source, if both ends are carried over as they are, and those to the one column by which
    rows of a looked-up table are taken.
    """
    into = _carried(plan)
    found = []
    for key in plan.reading.table.foreign_keys if plan.settings.source.query is None else ():
        for other in plans:
            there = _carried(other)
            referred = key.referred or other.reading.table.primary_key
            same_source = other.source.identity == plan.source.identity and other.settings.source.query is None
            if (
                not same_source
                or other.reading.table.name != key.table
                or other.target.identity != plan.target.identity
            ):
                continue
            if all(name in into for name in key.columns) and all(name in there for name in referred):
                columns, ends = tuple(into[n] for n in key.columns), tuple(there[n] for n in referred)
                if _tells_rows(other, ends):
                    found.append(ForeignKey(columns, other.target_table.schema, other.target_table.name, ends))
                    break
    tables = {lookup.name: (database, table) for lookup, database, table in plan.lookups}
    for column in plan.columns:
        owner, name = column.expression.node.column or (None, "")
        if owner in tables:
            database, table = tables[owner]
            if database.identity == plan.target.identity and (name,) in (table.primary_key, *table.unique):
                found.append(ForeignKey((column.name,), table.schema, table.name, (name,)))
    return found


def _carried(plan: PipelinePlan) -> dict[str, str]:
    """Source columns that are carried over as they are, with the target column of each."""
    found: dict[str, str] = {}
    for column in plan.columns:
        owner, name = column.expression.node.column or (None, "")
        if name and owner is None and column.type == column.expression.type:
            found.setdefault(name, column.name)
    return found


def _tells_rows(plan: PipelinePlan, columns: tuple[str, ...]) -> bool:
    keys = (plan.target_table.primary_key, *plan.target_table.unique)
    return any(set(key) == set(columns) for key in keys if key)


def alter_tables(differences: Sequence[Difference]) -> list[tuple[Difference, str | None]]:
    """Add and widen columns of existing tables, as far as that changes nothing that is there; with each what was done
    about it: None, or why it was left."""
    found: list[tuple[Difference, str | None]] = []
    for one in differences:
        why = None
        if one.sql is None:
            why = "this database cannot change it in place"
        elif not one.harmless:
            why = f"it would turn {one.there} into {one.wanted}; look at --show"
        else:
            try:
                one.database.ddl.define([one.sql])
            except DatabaseError as error:
                why = error.what
        found.append((one, why))
    return found


def create_tables(plan: JobPlan) -> list[NewTable]:
    """Make the missing target tables of a plan, in the order of the load; raises KanalError if one cannot be."""
    made: list[NewTable] = []
    for new in plan.new_tables:
        try:
            new.database.ddl.create(new.table)
        except DatabaseError as error:
            done = ", ".join(other.table.name for other in made)
            raise KanalError(
                f"table {new.table.name} cannot be made: {error.what}" + (f"; made before it: {done}" if done else ""),
                error.remedy,
            ) from None
        made.append(new)
    for new in made:
        for key in new.later:
            try:
                new.database.ddl.refer(new.table, key)
            except DatabaseError as error:
                raise KanalError(
                    f"table {new.table.name} is made, but not its reference to {key.table}: {error.what}", error.remedy
                ) from None
    return made
