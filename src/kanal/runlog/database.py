"""The database of a run log: its tables, its transactions, and who may write to a run."""

from __future__ import annotations

import functools
import os
import random
import threading
import time
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import Any, TypeVar, cast

import sqlalchemy as sa
from sqlalchemy import exc

from kanal.connections.errors import DatabaseError
from kanal.connections.sql.opening import SqlOpening
from kanal.core.errors import KanalError
from kanal.core.tally import COUNTS, Tally
from kanal.runlog.tables import BATCH, FORMER, METADATA, RUN, VERSION, VERSION_NOW, make_fit

#: Seconds before an action is repeated that another run may do at the same moment.
MEANWHILE = (0.1, 0.2, 0.3, 0.4)
#: Seconds before an entry is repeated after a temporary error.
_PAUSES = (0.2, 1.0, 4.0, 10.0)
#: Seconds for which the entry of a batch may wait for the next entry.
SOON = 0.2

Result = TypeVar("Result")
Method = TypeVar("Method", bound=Callable[..., None])

# Built once, since building a statement takes longer than running it.
_OWNER = sa.select(RUN.c.owner).where(RUN.c.run == sa.bindparam("this"))
_SAME_BATCH = sa.select(BATCH.c.batch).where(
    BATCH.c.run == sa.bindparam("run"), BATCH.c.step == sa.bindparam("step"), BATCH.c.batch == sa.bindparam("batch")
)
_ADD_BATCH = BATCH.insert()


class RunLogUnusable(DatabaseError):
    """The database of the run log cannot be reached, or refuses a statement."""


class TakenOver(KanalError):
    """Another process has resumed the run, since it took this one for dead."""

    def __init__(self, run: int) -> None:
        super().__init__(f"another process goes on with run {run}", "nothing more is done here; see kanal runs")


def again(
    act: Callable[[], Result],
    pauses: Sequence[float] = MEANWHILE,
    worth: Callable[[RunLogUnusable], bool] = lambda error: True,
) -> Result:
    """The result of a function, which is called again after this many seconds if its error is worth it."""
    for pause in pauses:
        try:
            return act()
        except RunLogUnusable as error:
            if not worth(error):
                raise
            time.sleep(pause * random.uniform(1, 1.5))
    return act()


def lasting(method: Method) -> Method:
    """Repeats an entry into the run log after temporary errors, so that a run survives them."""

    @functools.wraps(method)
    def repeated(*arguments: Any, **named: Any) -> None:
        try:
            again(lambda: method(*arguments, **named), _PAUSES, lambda error: error.passing)
        except RunLogUnusable as error:
            error.passing = False  # callers need not try again
            raise

    return cast(Method, repeated)


class RunLogDatabase:
    """Transactions on the run log. `owner` identifies this process among others that may resume the same run."""

    def __init__(self, place: SqlOpening) -> None:
        self.place = place
        self.owner = str(uuid.uuid4())
        self.one_at_a_time = threading.RLock()
        #: Runs that this process has begun, and not resumed.
        self.new_runs: set[int] = set()
        #: Entries of batches that are made together with the next entry of their run; when the last entry was made.
        self.waiting: list[dict[str, Any]] = []
        self.written = 0.0

    @contextmanager
    def begin(self, run: int | None = None) -> Iterator[sa.Connection]:
        """A transaction. For an entry into a run, raises TakenOver if the run belongs to another process by now."""
        with self.one_at_a_time:
            with self._transaction(run) as connection:
                waiting = [entry for entry in self.waiting if entry["run"] == run]
                for entry in waiting:
                    add_batch_entry(connection, entry)
                yield connection
            if waiting:
                self.waiting = [entry for entry in self.waiting if entry["run"] != run]
                self.written = time.monotonic()

    @contextmanager
    def _transaction(self, run: int | None) -> Iterator[sa.Connection]:
        try:
            with self.place.engine.begin() as connection:
                if run is not None:
                    owner = connection.execute(_OWNER, {"this": run}).scalar()
                    if owner not in (None, self.owner):
                        raise TakenOver(run)
                yield connection
        except exc.SQLAlchemyError as error:
            raise RunLogUnusable(
                f"The run log {self.place.shown_url} cannot be used: {self.place.words_of(error)}",
                "set run_log to a database that may be written",
                self.place.passes(error),
            ) from None

    def exists(self) -> bool:
        """True if there is a run log to read; raises RunLogUnusable if it is damaged, or cannot be reached."""
        self.place.may_be_made()
        if self.place.missing_file:  # looking into it would create it
            return False
        try:
            return bool(sa.inspect(self.place.engine).has_table("kanal_run"))
        except exc.SQLAlchemyError as error:
            words = self.place.words_of(error)
            if "unable to open database file" in words:
                return False
            raise RunLogUnusable(
                f"The run log {self.place.shown_url} cannot be read: {words}",
                "restore it from a copy, or move it away; a new one is made by the next run",
            ) from None

    def prepare(self) -> None:
        """Create the tables that are missing, and the columns that an older run log does not have.

        Raises KanalError for a run log of a newer Kanal.
        """
        again(self._prepare)  # another run may create them just now

    def _prepare(self) -> None:
        self._make_private()
        with self.begin() as connection:
            there = set(sa.inspect(connection).get_table_names())
            make_fit(connection.dialect.name)
            if not there >= set(METADATA.tables):
                METADATA.create_all(connection)
            version = connection.execute(sa.select(VERSION.c.version)).scalar()
            if version == VERSION_NOW:
                return
            if version is not None and version > VERSION_NOW:
                raise KanalError(
                    f"The run log {self.place.shown_url} is of form {version}, which a newer Kanal has made; "
                    f"this one knows form {VERSION_NOW}",
                    "use the newer Kanal, or another run log",
                )
            connection.execute(VERSION.delete())
            connection.execute(VERSION.insert().values(version=VERSION_NOW))
            inspector = sa.inspect(connection)
            for table in METADATA.sorted_tables:
                there = {column["name"] for column in inspector.get_columns(table.name)}
                for column in table.columns:
                    if column.name not in there:
                        declared = sa.schema.CreateColumn(column).compile(dialect=connection.dialect)
                        connection.execute(sa.text(f"ALTER TABLE {table.name} ADD COLUMN {declared}"))
                        if FORMER.get(column.name) in there:
                            former: Any = sa.literal_column(FORMER[column.name])
                            connection.execute(table.update().values({column.name: former}))
                for index in table.indexes:
                    index.create(connection, checkfirst=True)

    def _make_private(self) -> None:
        """Create a file that only its owner can read, since rejected rows are data."""
        if self.place.url.get_backend_name() == "sqlite" and self.place.url.database:
            with suppress(OSError):
                os.close(os.open(self.place.url.database, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600))


def add_batch_entry(connection: sa.Connection, entry: Mapping[str, Any]) -> bool:
    """Add the entry of a batch; False if a try whose answer was lost has added it already."""
    if connection.execute(_SAME_BATCH, entry).first() is not None:
        return False
    connection.execute(_ADD_BATCH, entry)
    return True


def values_of(tally: Tally) -> dict[str, int]:
    """Counts as columns of the run log."""
    return {name: getattr(tally, name) for name in COUNTS}
