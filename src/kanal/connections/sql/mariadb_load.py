"""A transaction on MariaDB or MySQL, in which rows go in by LOAD DATA LOCAL from memory."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Sequence
from typing import Any

import pyarrow as pa
import sqlalchemy as sa
from msgspec import Struct
from sqlalchemy import exc
from sqlalchemy.dialects import mysql as dialect

from kanal.connections.description import Constraint, TableInfo
from kanal.connections.errors import RowsRefused
from kanal.connections.loading import RefusedRow
from kanal.connections.sql.mariadb_access import MariaDBAccess
from kanal.connections.sql.mariadb_errors import REFUSALS, constraint_in, driver_errors
from kanal.connections.sql.portion import HASH, portion_form
from kanal.connections.sql.pymysql_private import begin_rows, end_rows, forbid_files, is_known, send_rows
from kanal.connections.sql.staging import row_column
from kanal.connections.sql.streaming import StreamingLoad, StreamWriter
from kanal.connections.sql.text_rows import cast_to_text, text_rows
from kanal.connections.sql.writer import TableWriter
from kanal.core.native import is_native


class _Loading(Struct):
    """A LOAD DATA that takes more rows, and how many it was sent."""

    rows: int = 0


class MariaDBWriter(StreamWriter):
    """Writes rows by LOAD DATA, or by INSERT if that is not allowed."""

    transaction: MariaDBLoad

    def encode(self, rows: pa.RecordBatch) -> Any:
        if not self.transaction.may_load or rows.num_rows == 1:
            return rows
        quote = self.transaction.database.sql_dialect.identifier_preparer.quote
        fields, settings = [], []
        for place, (name, values) in enumerate(zip(rows.schema.names, rows.columns, strict=True)):
            how = None
            if pa.types.is_binary(values.type):
                how = f"UNHEX(@v{place})"
            elif isinstance(self.table.c[name].type, dialect.BIT):
                how = f"CAST(@v{place} AS UNSIGNED)"
            fields.append(quote(name) if how is None else f"@v{place}")
            if how is not None:
                settings.append(f"{quote(name)} = {how}")
        target = self.transaction.database.sql_dialect.identifier_preparer.format_table(self.table)
        hint = _ANY_DATE if any(map(is_native, rows.columns)) else ""
        sql = f"LOAD DATA{hint} LOCAL INFILE 'rows' INTO TABLE {target} CHARACTER SET utf8mb4 ({', '.join(fields)})" + (
            f" SET {', '.join(settings)}" if settings else ""
        )
        return _Lines(sql, text_rows([cast_to_text(values) for values in rows.columns]), rows)

    def insert(self, encoded: Any) -> Sequence[RefusedRow]:
        if self.send(encoded) is not None:
            self.transaction.confirm()
            return ()
        rows = encoded.rows if isinstance(encoded, _Lines) else encoded
        if any(map(is_native, rows.columns)):
            self.transaction.allow_any_date()
        return TableWriter.insert(self, rows)


class MariaDBLoad(StreamingLoad):
    """A transaction in which rows go in by LOAD DATA LOCAL, or where the server forbids that, by INSERT."""

    database: MariaDBAccess
    _may_load = True

    def begin(self) -> None:
        super().begin()
        driver: Any = self.connection.connection.driver_connection
        self._driver = driver
        self._stages: list[str] = []
        self._may_load = is_known(driver)
        self._any_date = False
        # The server may ask for a file only as the answer to a LOAD DATA of ours, which never opens one.
        forbid_files(driver)

    def session(self) -> str | None:
        return str(int(self._driver.thread_id()))

    def writer_of(self, table: sa.Table) -> MariaDBWriter:
        return MariaDBWriter(self, table)

    @property
    def may_load(self) -> bool:
        """True if rows can be sent by LOAD DATA."""
        return self._may_load

    def allow_any_date(self) -> None:
        """Have the server take every date that a server of its kind can hold, such as 0000-00-00, until the end."""
        if not self._any_date:
            self.run_sql("SET @kanal_sql_mode = @@sql_mode")
            without = "REPLACE(REPLACE(@@sql_mode, 'NO_ZERO_IN_DATE', ''), 'NO_ZERO_DATE', '')"
            self.run_sql(f"SET SESSION sql_mode = CONCAT({without}, ',ALLOW_INVALID_DATES')")
            self._any_date = True

    def streams(self, encoded: Any) -> bool:
        return self._may_load and isinstance(encoded, _Lines)

    def begin_stream(self, encoded: _Lines, stack: contextlib.ExitStack) -> _Loading:
        del stack
        if _ANY_DATE in encoded.sql:
            self.allow_any_date()
        begin_rows(self._driver, encoded.sql, self.database.name)
        return _Loading()

    def stream(self, known: _Loading, encoded: _Lines) -> int:
        send_rows(self._driver, encoded.content)
        known.rows += encoded.rows.num_rows
        return len(encoded.content)

    def end_stream(self, known: _Loading) -> None:
        rows, warnings = end_rows(self._driver)
        if warnings or rows != known.rows:
            # With LOCAL, what would be an error is a warning, and the row is bent or left out.
            first = self.connection.exec_driver_sql("SHOW WARNINGS LIMIT 1").first()
            words = str(first[2]) if first else "rows were left out"
            raise RowsRefused(words, constraint=constraint_in(words))

    @contextlib.contextmanager
    def refusals(self) -> Iterator[None]:
        """As it is promised; notes if no LOAD DATA is allowed, without an error."""
        try:
            yield
        except driver_errors() as error:
            if error.args and error.args[0] in _NOT_ALLOWED:
                self._may_load = False
            elif error.args and error.args[0] in REFUSALS:
                words = self.database.words_of(error)
                raise RowsRefused(words, constraint=self.database.broken_constraint(error)) from None
            else:
                raise self.database.failed(self.database.words_of(error), self.database.passes(error)) from None
        except exc.SQLAlchemyError as error:
            raise self.database.diagnosed(error) from None

    def create_stage(self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str) -> sa.Table:
        stage = self.stage_table(table, columns, name)
        real = self.database.sa_table(table)
        quote = self.database.sql_dialect.identifier_preparer.quote
        number = sa.cast(sa.literal_column("0"), sa.BigInteger).label(row_column(columns))
        query = sa.select(*(real.c[column] for column in columns), number).where(sa.false())
        body = self.database.compiled(query)
        parts = (quote(column) + key_prefix(real.c[column].type) for column in key)
        self._stages.append(name)
        keys = f"PRIMARY KEY ({row_column(columns)})"
        if key:
            keys += f", KEY kanal_key ({', '.join(parts)})"
        self.run_sql(f"CREATE TEMPORARY TABLE {name} ({keys}) ENGINE = InnoDB {body}")
        return stage

    def portion_table(
        self, table: TableInfo, columns: Sequence[str], key: Sequence[str], name: str, new: bool
    ) -> sa.Table:
        made = portion_form(self.database.sa_table(table), columns, name)
        if new:
            real = self.database.sa_table(table)
            preparer = self.database.sql_dialect.identifier_preparer
            query = sa.select(*(real.c[column] for column in columns)).where(sa.false())
            number = row_column(columns)
            keys = [f"{HASH} BIGINT", f"{number} BIGINT NOT NULL DEFAULT 0", f"PRIMARY KEY ({number})"]
            parts = ", ".join(preparer.quote(column) + key_prefix(real.c[column].type) for column in key)
            keys += [f"KEY kanal_key ({parts})"] if key else []
            # It ends the transaction, in which nothing has been done yet.
            place = preparer.format_table(made)
            self.run_sql(f"CREATE TABLE {place} ({', '.join(keys)}) ENGINE = InnoDB {self.database.compiled(query)}")
        return made

    def empty(self, table: TableInfo) -> int:
        if not table.own_references or self.catalogue.referring(table):
            return super().empty(table)
        # A row that refers to itself could not be removed otherwise, and when all are gone none refers to another.
        self.run_sql("SET SESSION foreign_key_checks = 0")
        try:
            return self.empty_table(self.table_of(table))
        finally:
            self.run_sql("SET SESSION foreign_key_checks = 1")

    def has_triggers(self, table: TableInfo) -> bool:
        parts = [f"QUOTE(SUBSTRING_INDEX(CURRENT_USER(), '@', {place}))" for place in (1, -1)]
        mine = f"grantee = CONCAT({parts[0]}, '@', {parts[1]}) AND privilege_type = 'TRIGGER'"
        place = "table_schema = COALESCE(:schema, DATABASE())"
        # Who may not make triggers does not see them.
        found = sa.text(
            f"SELECT (SELECT count(*) FROM information_schema.user_privileges WHERE {mine}) "
            f"+ (SELECT count(*) FROM information_schema.schema_privileges WHERE {mine} AND {place}) "
            f"+ (SELECT count(*) FROM information_schema.table_privileges WHERE {mine} AND {place} "
            "AND table_name = :name), "
            "(SELECT count(*) FROM information_schema.triggers "
            "WHERE event_object_schema = COALESCE(:schema, DATABASE()) AND event_object_table = :name)"
        )
        ((seen, triggers),) = self.rows(found.bindparams(schema=table.schema, name=table.name))
        return not seen or bool(triggers)

    def ask_may_stage(self) -> bool:
        try:
            self.connection.exec_driver_sql("CREATE TEMPORARY TABLE kanal_may_stage (n integer)")
            self.connection.exec_driver_sql("DROP TEMPORARY TABLE kanal_may_stage")
        except exc.SQLAlchemyError:
            return False
        return True

    def constraints(self, table: TableInfo) -> list[Constraint]:
        found = [one for one in super().constraints(table) if one.condition is None]
        # SQLAlchemy does not see those of a column.
        checks = sa.text(
            "SELECT constraint_name, check_clause FROM information_schema.check_constraints "
            "WHERE constraint_schema = COALESCE(:schema, DATABASE()) AND table_name = :name"
        )
        conditions = self.rows(checks.bindparams(schema=table.schema, name=table.name))
        return found + [Constraint(name, (), condition=condition) for name, condition in conditions]

    def drop_stage(self, stage: sa.Table) -> None:
        self.run_sql(f"DROP TEMPORARY TABLE {stage.name}")
        self._stages.remove(stage.name)

    def close(self) -> None:
        self.give_up()
        # The connection is kept, and a temporary table would be with it.
        with contextlib.suppress(exc.SQLAlchemyError):
            self._transaction.close()
            if self._any_date:
                self.connection.exec_driver_sql("SET SESSION sql_mode = @kanal_sql_mode")
            for name in self._stages:
                self.connection.exec_driver_sql(f"DROP TEMPORARY TABLE IF EXISTS {name}")
        super().close()


class _Lines:
    """Rows as the lines of a LOAD DATA, and as they were."""

    def __init__(self, sql: str, content: memoryview, rows: pa.RecordBatch) -> None:
        self.sql = sql
        self.content = content
        self.rows = rows


#: Marks a statement that takes dates in the server's own form.
_ANY_DATE = " /* any date */"
_NOT_ALLOWED = {1148, 3948, 4166}


def key_prefix(declared: Any) -> str:
    """How much of a key of that type an index takes."""
    return "(191)" if re.search("TEXT|BLOB", type(declared).__name__.upper()) else ""
