"""The constraints of a table, as SQLAlchemy finds them."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from kanal.connections.description import Constraint, TableInfo


def constraints_of(inspector: sa.Inspector, table: TableInfo) -> list[Constraint]:
    """The constraints of a table, as SQLAlchemy finds them."""
    place: dict[str, Any] = {"table_name": table.name, "schema": table.schema}
    primary = inspector.get_pk_constraint(**place)
    found = [Constraint(primary.get("name") or "PRIMARY", tuple(primary["constrained_columns"]))]
    found += [Constraint(key["name"], tuple(key["column_names"])) for key in inspector.get_unique_constraints(**place)]
    for index in inspector.get_indexes(**place):
        names = index["column_names"]
        if index["unique"] and None not in names and not index.get("expressions") and not _is_partial(index):
            found.append(Constraint(index["name"], tuple(str(name) for name in names)))
    once = {key.columns: key for key in reversed(found) if key.columns}
    whole: list[Constraint] = list(reversed(once.values()))
    for key in table.foreign_keys:
        whole.append(Constraint(key.name, key.columns, foreign_key=key))
    for check in inspector.get_check_constraints(**place):
        if check["sqltext"]:
            whole.append(Constraint(check["name"], (), condition=check["sqltext"]))
    return whole


def _is_partial(index: Any) -> bool:
    options = index.get("dialect_options") or {}
    return any(
        str(name).endswith(("_where", "_length", "_nulls_not_distinct")) and value for name, value in options.items()
    )
