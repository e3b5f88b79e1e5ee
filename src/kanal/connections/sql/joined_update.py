"""The UPDATE of a table from the rows of another, as each database can say it: UPDATE … FROM, or MERGE of ISO SQL."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.compiler import SQLCompiler

#: Dialects in which the WHEN of a MERGE takes no condition, but the UPDATE within does (Oracle's SQL reference, MERGE).
_CONDITION_LAST = {"oracle"}


class MergedUpdate(sa.sql.base.Executable, sa.ClauseElement):
    """MERGE INTO a table USING another WHEN MATCHED THEN UPDATE (ISO/IEC 9075-2:2003, 14.12)."""

    inherit_cache = False

    def __init__(
        self, target: Any, source: Any, values: Mapping[str, Any], same: Sequence[Any], conditions: Sequence[Any]
    ) -> None:
        self.target = target
        self.source = source
        self.values = values
        self.same = same
        self.conditions = conditions

    @property
    def whereclause(self) -> Any:
        """The condition under which a row of the target is updated."""
        return sa.and_(*self.same, *self.conditions)


@compiles(MergedUpdate)
def _merged(element: MergedUpdate, compiler: Any, **settings: Any) -> str:
    # As in an UPDATE, what is selected within refers to the rows of the two tables.
    tables = {element.target, element.source}
    compiler.stack.append({"correlate_froms": tables, "asfrom_froms": tables, "selectable": element})
    try:
        return _text_of(element, compiler, settings)
    finally:
        compiler.stack.pop(-1)


def _text_of(element: MergedUpdate, compiler: Any, settings: Mapping[str, Any]) -> str:
    quote, process, name = compiler.preparer, compiler.process, compiler.dialect.name
    target = quote.format_table(element.target)
    source = process(element.source, asfrom=True, **settings)
    parts = [f"MERGE INTO {target} USING {source} ON ({process(sa.and_(*element.same), **settings)})"]
    more = process(sa.and_(sa.true(), *element.conditions), **settings) if element.conditions else ""
    first = f" AND ({more})" if more and name not in _CONDITION_LAST else ""
    parts.append(f"WHEN MATCHED{first} THEN UPDATE SET")
    given = (f"{quote.quote(column)} = {process(value, **settings)}"
             for column, value in element.values.items())  # fmt: skip
    parts.append(", ".join(given))
    if more and name in _CONDITION_LAST:
        parts.append(f"WHERE {more}")
    return " ".join(parts)


def joined_update(
    dialect: Any,
    target: Any,
    source: Any,
    values: Mapping[str, Any],
    same: Sequence[Any],
    conditions: Sequence[Any] = (),
) -> Any:
    """The statement that gives rows of a table values of another's, of the rows that are the same by these conditions,
    and meet the others."""
    compiler = dialect.statement_compiler
    if compiler.update_from_clause is SQLCompiler.update_from_clause:
        return MergedUpdate(target, source, values, same, conditions)
    return target.update().values(dict(values)).where(*same, *conditions)
