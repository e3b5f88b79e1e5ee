"""A SQL database's journal: two small tables of Kanal's own, written in the transactions of the rows themselves."""

from __future__ import annotations

import contextlib
import datetime as dt
import hashlib
import json
import re
from collections.abc import Collection, Sequence
from contextlib import AbstractContextManager
from typing import Any, Protocol

import sqlalchemy as sa
from msgspec.structs import asdict

from kanal.connections.errors import DatabaseError
from kanal.connections.journal import LoadedFile, Progress, Watermark, gone_on_elsewhere, moved_text
from kanal.connections.loading import Load
from kanal.connections.sql.catalogue import Catalogue
from kanal.connections.sql.ddl import TableDefinitions
from kanal.connections.sql.load import SqlLoad, sql_load
from kanal.core.errors import KanalError

_LONGEST = 4000
PROGRESS = sa.Table(
    "kanal_progress",
    sa.MetaData(),
    sa.Column("token", sa.String(36), primary_key=True),
    # The name and a digest, as in the other tables: see `_key`.
    sa.Column("step", sa.String(200), primary_key=True),
    sa.Column("progress", sa.String(_LONGEST)),
    # Who continues it, and by which session of the database.
    sa.Column("owner", sa.String(36)),
    sa.Column("session", sa.String(100)),
)


def _watermarks(name: str, value: str) -> sa.Table:
    return sa.Table(
        name,
        sa.MetaData(),
        sa.Column("job", sa.String(200), primary_key=True),
        sa.Column("step", sa.String(200), primary_key=True),
        sa.Column(value, sa.String(200), nullable=False),
        sa.Column("moved", sa.String(30), nullable=False),
    )


WATERMARK = _watermarks("kanal_watermark", "watermark")
#: The expression whose values it is about; NULL if an earlier version of Kanal has moved it.
WATERMARK.append_column(sa.Column("expression", sa.String(500)))
WATERMARK.append_column(sa.Column("last_read", sa.String(30)))
#: What it was called before; read if it is there, and replaced when a load needs the table.
_FORMER = _watermarks("kanal_mark", "mark")


_LONGEST_NAME = 1000
LOADED_FILE = sa.Table(
    "kanal_file",
    sa.MetaData(),
    # What job, step and name are together, which some databases cannot take as a key.
    sa.Column("entry", sa.String(64), primary_key=True),
    sa.Column("job", sa.String(200), nullable=False),
    sa.Column("step", sa.String(200), nullable=False),
    sa.Column("name", sa.String(_LONGEST_NAME), nullable=False),
    sa.Column("size", sa.BigInteger, nullable=False),
    sa.Column("modified", sa.String(40), nullable=False),
    sa.Column("checksum", sa.String(200), nullable=False),
    sa.Column("run", sa.Integer, nullable=False),
    sa.Column("loaded", sa.String(40), nullable=False),
    sa.Column("rows", sa.BigInteger, nullable=False),
    sa.Column("rejected", sa.BigInteger, nullable=False),
    sa.Column("pending", sa.String(_LONGEST_NAME)),
)


class JournalDatabase(Protocol):
    """What a journal needs of its database."""

    @property
    def catalogue(self) -> Catalogue:
        """Its tables."""

    @property
    def ddl(self) -> TableDefinitions:
        """How tables are created."""

    def load(self) -> AbstractContextManager[SqlLoad]:
        """A transaction."""

    def found_by(self, query: sa.Executable) -> list[tuple[Any, ...]]:
        """The rows that a query finds."""

    def change(self, statement: sa.Executable) -> int:
        """Run one statement and commit it; the number of rows that it changed."""

    def run_command(self, sql: str) -> int:
        """Run SQL in one transaction."""

    def end_session(self, session: str) -> None:
        """End a session of the server."""


class SqlJournal:
    """The journal of one database."""

    def __init__(self, database: JournalDatabase) -> None:
        self.database = database
        #: The columns of Kanal's own tables.
        self._columns: dict[str, set[str]] = {}

    # --- progress --------------------------------------------------------------------------------------------------

    def make_ready(self) -> None:
        """Make the table of progress if it is missing, and columns that older ones lack; raises KanalError."""
        self._make(PROGRESS)

    def is_ready(self) -> bool:
        """True if the table of progress is there."""
        return PROGRESS.name in self.database.catalogue.table_names()

    def record(self, load: Load, done: Progress, token: str, step: str, owner: str) -> None:
        """Record, within a load's transaction, how far a step is committed with it.

        Raises KanalError if another process has claimed the step: of two, only the later one can commit.
        """
        text = json.dumps(done.content())
        if len(text) > _LONGEST:
            raise KanalError(
                f"the key of the last row of a batch is too long to be kept ({len(text):,} characters with the counts)",
                'order the source by a shorter key, or set commit = "step"',
            )
        mine = sa.and_(_entry(token, step), PROGRESS.c.owner == owner)
        if not sql_load(load).execute(PROGRESS.update().where(mine).values(progress=text, session=None)):
            raise gone_on_elsewhere()

    def recorded(self, token: str, step: str) -> Progress | None:
        """The committed progress of a step; None if nothing is committed."""
        if not self.is_ready():
            return None
        query = sa.select(PROGRESS.c.step, PROGRESS.c.progress).where(_entry_or_former(token, step))
        found = {name: progress for name, progress in self.database.found_by(query) if progress is not None}
        text = found.get(_key(token, step), found.get(step[:200]))
        return None if text is None else Progress.of(json.loads(text))

    def claim_first(self, token: str, steps: Sequence[str], owner: str) -> None:
        """Make entries for the steps of a new run, all at once; raises KanalError."""
        with self.database.load() as load:
            for step in steps:
                load.execute(PROGRESS.insert().values(token=token, step=_key(token, step), owner=owner))
            load.commit()

    def claim(self, token: str, step: str, owner: str) -> Progress | None:
        """Make a step's entry that of who continues it, so that nobody else can commit any more; how far it was
        committed before."""
        entry = _entry(token, step)
        found = self.database.found_by(sa.select(PROGRESS.c.session, PROGRESS.c.owner).where(entry))
        if not found:
            with contextlib.suppress(DatabaseError):  # another may claim it at this moment
                self.database.change(PROGRESS.insert().values(token=token, step=_key(token, step), owner=owner))
                return self.recorded(token, step)  # by an earlier version of Kanal
        if found and found[0][0] is not None and found[0][1] != owner:  # what it has locked, this one would wait for
            self.database.end_session(found[0][0])
        self.database.change(PROGRESS.update().where(entry).values(owner=owner, session=None))
        return self.recorded(token, step)

    def note_session(self, load: Load, token: str, step: str, owner: str) -> None:
        """Record, at once, by which session a load continues, so that whoever claims its step can end it."""
        session = sql_load(load).session()
        if session is not None:
            mine = sa.and_(_entry(token, step), PROGRESS.c.owner == owner)
            self.database.change(PROGRESS.update().where(mine).values(session=session))

    def forget(self, tokens: Collection[str]) -> None:
        """Remove what was kept for runs that have come to their end."""
        with contextlib.suppress(KanalError):  # it harms nobody
            if self.is_ready() and tokens:
                with self.database.load() as load:
                    load.execute(PROGRESS.delete().where(PROGRESS.c.token.in_(list(tokens))))
                    load.commit()

    # --- watermarks ------------------------------------------------------------------------------------------------

    def make_watermarks_ready(self) -> None:
        """Create the table of watermarks if it is missing, and take over what earlier versions of Kanal have written;
        raises KanalError."""
        database = self.database
        self._make(WATERMARK)
        rows = database.found_by(sa.select(*WATERMARK.c))
        known = {step for _, step, *_ in rows}
        former = [row[:4] for row in rows if not _KEYED.search(row[1])]
        if _FORMER.name in database.catalogue.table_names():
            former += database.found_by(sa.select(*_FORMER.c))
        if former:
            with database.load() as load:
                for job, step, watermark, moved in former:
                    load.execute(WATERMARK.delete().where(_of(WATERMARK, job, step)))
                    if (key := _key(job, step)) not in known:
                        values = {"job": job, "step": key, "watermark": watermark, "moved": moved}
                        load.execute(WATERMARK.insert().values(values))
                        known.add(key)
                load.commit()
        if _FORMER.name in database.catalogue.table_names():
            with contextlib.suppress(DatabaseError):  # another run may have removed it just now
                database.run_command(database.ddl.definition(sa.schema.DropTable(_FORMER)))
            database.catalogue.forget_names()
            database.catalogue.table_names()

    def watermark(self, job: str, step: str) -> Watermark | None:
        """The watermark of a pipeline; None if it has none yet."""
        names = self.database.catalogue.table_names()
        key = _key(job, step)
        if WATERMARK.name in names:
            columns = [column for column in WATERMARK.c if self._has_column(WATERMARK, column.name)]
            for _, _, *found in self.database.found_by(sa.select(*columns).where(WATERMARK.c.step == key)):
                return Watermark(*found)
        for table in (WATERMARK, _FORMER):  # of an earlier version of Kanal
            if table.name in names:
                rows = self.database.found_by(sa.select(*list(table.c)[:4]).where(_of(table, job, step)))
                for its_job, its_step, watermark, moved in rows:
                    if (its_job, its_step) == (job[:200], step[:200]):
                        return Watermark(watermark, moved)
        return None

    def move_watermark(
        self, load: Load, job: str, step: str, watermark: str | None, moment: dt.datetime, expression: str
    ) -> None:
        """Set a watermark within a load's transaction, or with None take it away."""
        sql, key = sql_load(load), _key(job, step)
        sql.execute(WATERMARK.delete().where(WATERMARK.c.step == key))
        if watermark is not None:
            values = {"job": job[:200], "step": key, "watermark": watermark, "moved": moved_text(moment)}
            sql.execute(WATERMARK.insert().values(values | {"expression": expression}))

    def note_read(self, load: Load, job: str, step: str, moment: dt.datetime) -> None:
        """Record, within a load's transaction, that a run has read up to the watermark, if there is one."""
        mine = WATERMARK.c.step == _key(job, step)
        sql_load(load).execute(WATERMARK.update().where(mine).values(last_read=moved_text(moment)))

    # --- files -----------------------------------------------------------------------------------------------------

    def make_files_ready(self) -> None:
        """Make the table of loaded files if it is missing; raises KanalError."""
        self._make(LOADED_FILE)

    def loaded_files(self, job: str, step: str) -> list[LoadedFile]:
        """The files that a step has loaded, in the order of their names."""
        if LOADED_FILE.name not in self.database.catalogue.table_names():
            return []
        columns = list(LOADED_FILE.c)[3:]
        rows = self.database.found_by(sa.select(LOADED_FILE.c.entry, *columns).where(_of(LOADED_FILE, job, step)))
        names = [column.name for column in columns]
        files = [(entry, LoadedFile(**dict(zip(names, row, strict=True)))) for entry, *row in rows]
        mine = [file for entry, file in files if entry == _entry_of(job, step, file.name)]
        return sorted(mine, key=lambda file: file.name)

    def record_files(self, load: Load, job: str, step: str, files: Sequence[LoadedFile]) -> None:
        """Remember files, within a load's transaction; they replace files with the same names."""
        self.forget_files(load, job, step, [file.name for file in files])
        sql = sql_load(load)
        for file in files:
            if len(file.name) > _LONGEST_NAME or len(file.pending or "") > _LONGEST_NAME:
                raise KanalError(f"{file.name[:80]}… is too long a name to be kept", "give the file a shorter one")
            entry = _entry_of(job, step, file.name)
            sql.execute(LOADED_FILE.insert().values(entry=entry, job=job[:200], step=step[:200], **asdict(file)))

    def forget_files(self, load: Load, job: str, step: str, names: Collection[str]) -> None:
        """Forget files, within a load's transaction."""
        entries = [_entry_of(job, step, name) for name in names]
        for start in range(0, len(entries), 500):
            chosen = LOADED_FILE.c.entry.in_(entries[start : start + 500])
            sql_load(load).execute(LOADED_FILE.delete().where(chosen))

    def _make(self, table: sa.Table) -> None:
        """Make a table of Kanal's own if it is missing; raises KanalError if that is not allowed."""
        catalogue = self.database.catalogue
        if table.name not in catalogue.table_names():
            try:
                self.database.run_command(self.database.ddl.definition(sa.schema.CreateTable(table)))
            except KanalError:
                catalogue.forget_names()
                if table.name not in catalogue.table_names():  # else somebody made it meanwhile
                    raise
            catalogue.forget_names()
            catalogue.table_names()  # now, and not while a load is under way
        for column in table.c:
            if column.nullable and not self._has_column(table, column.name):  # since an earlier version created it
                with contextlib.suppress(KanalError):  # somebody may add it at this moment
                    added = self.database.ddl.definition(sa.schema.CreateColumn(column.copy()))
                    self.database.run_command(f"ALTER TABLE {table.name} ADD COLUMN {added}")
                self._columns.pop(table.name, None)

    def _has_column(self, table: sa.Table, name: str) -> bool:
        if table.name not in self._columns:
            self._columns[table.name] = {
                one.lower() for one in self.database.catalogue.describe(None, table.name).names
            }
        return name in self._columns[table.name]


def _entry_of(job: str, step: str, name: str) -> str:
    return hashlib.sha256(json.dumps([job, step, name]).encode()).hexdigest()


#: A step's name is followed by a digest.
_KEYED = re.compile(r" [0-9a-f]{64}$")


def _key(*names: str) -> str:
    """The key of a step: its name, for people, and a digest of all its names, which is unique in every collation."""
    return f"{names[-1][:130]} {hashlib.sha256(json.dumps(names).encode()).hexdigest()}"


def _entry(token: str, step: str) -> sa.ColumnElement[bool]:
    return sa.and_(PROGRESS.c.token == token, PROGRESS.c.step == _key(token, step))


def _entry_or_former(token: str, step: str) -> sa.ColumnElement[bool]:
    return sa.and_(PROGRESS.c.token == token, PROGRESS.c.step.in_([_key(token, step), step[:200]]))


def _of(table: sa.Table, job: str, step: str) -> sa.ColumnElement[bool]:
    return sa.and_(table.c.job == job[:200], table.c.step == step[:200])
