"""Checks of rows by a job."""

from __future__ import annotations

import datetime as dt
import re
from typing import Annotated, Literal, Self

from pydantic import BeforeValidator, Field, model_validator

from kanal.core.conversions.rounding import ROUNDING
from kanal.definition.base import Model
from kanal.definition.secrets import list_of
from kanal.definition.table_places import Table

Scalar = bool | int | float | str | dt.datetime | dt.date | dt.time
Rounding = Literal["floor", "ceiling", "half_up", "half_even", "toward_zero"]
assert set(ROUNDING) == set(Rounding.__args__)  # type: ignore[attr-defined]

_NAME = re.compile(r"[^\s:,\"'][^:,\"']*")


class TableColumn(Model):
    """A column of a table, whose values a check compares with."""

    table: Table
    column: str


class Check(Model):
    """A rule that every converted row must keep; NULL passes.

    One of: `expect`, an SQL condition; `unique`, columns of which no two rows of the load may have the same values;
    `exists_in` or `absent_from`, a table's column in which the value of the expression `value` must or must not stand.
    """

    expect: str | None = None
    unique: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)
    value: str | None = None
    exists_in: TableColumn | None = None
    absent_from: TableColumn | None = None

    @model_validator(mode="after")
    def _one(self) -> Self:
        kinds = [self.expect is not None, bool(self.unique), self.exists_in is not None, self.absent_from is not None]
        names = ("expect", "unique", "exists_in", "absent_from")
        given = [name for name, there in zip(names, kinds, strict=True) if there]
        if len(given) != 1:
            said = f"{' and '.join(given)} are given" if given else "it checks nothing"
            raise ValueError(f"{said}: give one of expect, unique, exists_in and absent_from")
        if self.value is None and (kinds[2] or kinds[3]):
            raise ValueError(f"{given[0]} is given without value: add the expression whose value is looked for")
        if self.value is not None and not (kinds[2] or kinds[3]):
            raise ValueError(f"value is given with {given[0]}: it goes with exists_in and absent_from alone")
        return self

    @property
    def table_column(self) -> TableColumn | None:
        """The table's column that the check compares with."""
        return self.exists_in or self.absent_from
