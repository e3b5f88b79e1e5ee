"""How statements are run on PostgreSQL."""

from __future__ import annotations

import math
import socket
from collections.abc import Hashable, Sequence
from functools import cached_property
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy.dialects import postgresql as dialect

from kanal.connections.description import ColumnInfo, TableInfo
from kanal.connections.errors import os_error_passes, state_passes
from kanal.connections.sql.access import SqlAccess
from kanal.connections.sql.postgresql_start import state_at_start
from kanal.connections.sql.postgresql_types import exact_form
from kanal.core.types import Family

#: What holds for the values of a type that are none of Kanal's.
_ODD = {
    Family.DATE: "NOT BETWEEN '0001-01-01' AND '9999-12-31'",
    Family.TIMESTAMP: "NOT BETWEEN '0001-01-01' AND '9999-12-31 23:59:59.999999'",
    Family.TIMESTAMPTZ: "NOT BETWEEN '0001-01-01+00' AND '9999-12-31 23:59:59.999999+00'",
    Family.TIME: "= '24:00'",
    Family.DECIMAL: "= 'NaN'",
}
#: A server that is gone without a word, as if a network was cut, is noticed within a minute, not within hours.
_ALIVE = {"keepalives_idle": "20", "keepalives_interval": "10", "keepalives_count": "3", "tcp_user_timeout": "60000"}


def refuses(sqlstate: str) -> bool:
    """True for the states of errors by which rows are refused: bad data, broken constraints, raised by a trigger."""
    return sqlstate[:2] in ("22", "23", "44", "P0")


class PostgreSQLAccess(SqlAccess):
    """How statements are run on PostgreSQL."""

    extra = "kanal[postgresql]"
    port = 5432
    drivers = frozenset({"psycopg", "psycopg2"})
    pooling: ClassVar[dict[str, Any]] = {}
    looks_after = True
    joins_whole = True
    sql_name = "postgres"
    sql_dialect = dialect.dialect(paramstyle="named")  # type: ignore[no-untyped-call]

    def __init__(self, name: str, url: sa.URL) -> None:
        super().__init__(name, url.set(drivername="postgresql+psycopg"))
        self._given = url

    @cached_property
    def identity(self) -> Hashable:
        (row,) = self.rows_of(
            "SELECT pg_postmaster_start_time()::text, current_setting('port'), "
            "(SELECT oid::int8 FROM pg_database WHERE datname = current_database())"
        )
        return "postgresql", *row

    def connect_arguments(self) -> dict[str, Any]:
        given = self.url.query
        settings = {"connect_timeout": str(math.ceil(self.connect_timeout or 15)), "application_name": "kanal",
                    "client_encoding": "utf8", **_ALIVE}  # fmt: skip
        settings = {name: value for name, value in settings.items() if name not in given}
        if self.lock_timeout is not None:
            before = given.get("options")
            options = [before] if isinstance(before, str) else list(before or ())
            settings["options"] = " ".join([*options, f"-c lock_timeout={round(self.lock_timeout * 1000)}"])
        return settings

    def refuses(self, error: sa.exc.SQLAlchemyError) -> bool:
        return refuses(str(getattr(getattr(error, "orig", None), "sqlstate", None) or ""))

    def passes(self, error: BaseException) -> bool:
        import psycopg

        original = getattr(error, "orig", None) or error
        state = getattr(original, "sqlstate", None)
        # Without a state, it is the client library that has lost the server.
        return state_passes(state) if state else isinstance(original, psycopg.OperationalError) or super().passes(error)

    def connecting_passes(self, error: sa.exc.SQLAlchemyError) -> bool:
        url = self.url
        host = url.host or url.query.get("host")
        try:
            state = state_at_start(
                host if isinstance(host, str) else None, url.port or 5432, url.username or "", url.database or "",
                self.connect_timeout or 5,
            )  # fmt: skip
        except OSError as failure:
            return os_error_passes(failure) or not isinstance(failure, socket.gaierror)
        return state_passes(state)

    def words_of(self, error: BaseException) -> str:
        original = getattr(error, "orig", None) or error
        said = getattr(original, "diag", None)
        parts = [said.message_primary, said.message_detail, said.message_hint] if said is not None else []
        return ": ".join(" ".join(part.split()) for part in parts if part) or super().words_of(error)

    def broken_constraint(self, error: BaseException) -> str | None:
        said = getattr(getattr(error, "orig", None) or error, "diag", None)
        found: str | None = said.constraint_name if said is not None else None
        return found

    def exact(self, column: ColumnInfo, value: Any) -> list[Any]:
        return [exact_form(column, value)]

    def written(self, table: TableInfo) -> str:
        """A table's name as SQL has it."""
        quote = self.sql_dialect.identifier_preparer.quote
        return ".".join(quote(part) for part in (table.schema, table.name) if part)

    def odd(self, table: TableInfo, columns: Sequence[str]) -> str:
        """The condition that a row has a value that Kanal does not have."""
        quote = self.sql_dialect.identifier_preparer.quote
        found = ((column.name, column.type.family) for column in table.chosen(columns) if column.type is not None)
        return " OR ".join(f"{quote(name)} {_ODD[family]}" for name, family in found if family in _ODD) or "false"

    def break_off(self, driver: Any) -> None:
        # Not by the driver's own call, which stops all of Python until the server has answered.
        with self.connect() as other:
            other.exec_driver_sql(f"SELECT pg_cancel_backend({int(driver.info.backend_pid)})")

    def statements(self, sql: str) -> list[str]:
        # The server parts them itself.
        return [sql]
