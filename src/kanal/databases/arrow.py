"""What databases whose rows move through an Arrow driver have in common (https://arrow.apache.org/adbc/)."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from typing import Any

import sqlalchemy as sa

from kanal.databases.base import Database
from kanal.databases.errors import DatabaseError


def driver_errors() -> tuple[type[BaseException], ...]:
    """What the Arrow drivers raise; they are imported only where rows are moved, since that takes half a second."""
    import adbc_driver_manager

    return adbc_driver_manager.Error, OSError


class ArrowDatabase(Database):
    """A database whose rows move through an Arrow driver."""

    #: SQLAlchemy's dialect, by which statements become text.
    sql_dialect: sa.Dialect

    @contextlib.contextmanager
    def arrow(self) -> Iterator[Any]:
        """A connection of the Arrow driver; its errors become Kanal's."""
        raise NotImplementedError
        yield

    def define(self, statements: Sequence[str]) -> None:
        self.run_command(";\n".join(statements))

    def compiled(self, statement: Any) -> str:
        """A statement made with SQLAlchemy as text."""
        return str(statement.compile(dialect=self.sql_dialect, compile_kwargs={"literal_binds": True}))

    def driver_words(self, error: BaseException) -> str:
        """What the database said, without the driver's surroundings.

        Raises KeyboardInterrupt where it was one: a driver answers Ctrl-C with an error of its own, caused by it.
        """
        if isinstance(error.__cause__, KeyboardInterrupt):
            raise KeyboardInterrupt from None
        return self.without_password(" ".join(str(error).split()))

    def driver_failure(self, error: BaseException) -> DatabaseError:
        """A driver's error as one of Kanal's."""
        return self.failed(self.driver_words(error))
