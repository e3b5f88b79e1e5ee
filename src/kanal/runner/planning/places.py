"""The tables, queries and files that a pipeline reads and writes."""

from __future__ import annotations

from kanal.connections import TableInfo
from kanal.connections.base import Connection, as_file_source
from kanal.connections.files.naming import scope as pattern_scope
from kanal.connections.files.stores import check_pattern, fits
from kanal.connections.roles import Reads, Writes, lacks
from kanal.core.errors import KanalError
from kanal.definition import Source
from kanal.runner.planning.scope import NoFiles, PipelineScope


def source_table(scope: PipelineScope) -> TableInfo | None:
    """The table, query or files that rows come from; None after a problem. Raises NoFiles if files may come later."""
    place = scope.settings.source
    missing: NoFiles | None = None
    with scope.at("source"):
        database = scope.database(place.connection)
        if place.files is not None or (database is not None and place.query is None and Reads.FILES in database.reads):
            try:
                return None if database is None else _files(scope, database, place)
            except NoFiles as error:  # is no problem
                missing = error
        elif place.query is None:
            return scope.table(place)
        elif database is not None:
            return database.catalogue.describe_query(place.query)
    if missing is not None:
        raise missing
    return None


def _files(scope: PipelineScope, database: Connection, place: Source) -> TableInfo:
    """The files of the source, or those that another pipeline will write; raises KanalError, and NoFiles."""
    settings = scope.settings
    writer = _writer_of(scope, database, place.pattern)
    if (settings.loads_each_once or writer is not None) and not database.catalogue.has_table(None, place.pattern):
        found = None if writer is None else _files_to_come(scope, database, place.pattern, writer)
        if found is not None:
            return found
        if settings.loads_each_once:
            raise NoFiles(f"no file of connection {place.connection} fits {place.pattern}")
    form = scope.format_named(place.format)
    described = database.catalogue.describe_files(
        place.pattern, form, settings.columns_differ, settings.bad_file != "fail"
    )
    if not isinstance(settings.bad_file, str) and Reads.MOVE not in database.reads:
        error = lacks(place.connection, Reads.MOVE)
        scope.problem("bad_file", error.what, error.remedy)
    return described


def _writer_of(scope: PipelineScope, database: Connection, pattern: str) -> str | None:
    """The other pipeline of the job that writes files of a pattern; None if there is none."""
    wanted = TableInfo(None, pattern, ())
    for name, other in scope.job.pipeline.items():
        there = scope.planner.connections.get(other.target.connection)
        if name == scope.name or there is None or Writes.FILES not in there.writes:
            continue
        if database.overlaps(wanted, there, TableInfo(None, pattern_scope(other.target.pattern), ())):
            return name
    return None


def _files_to_come(scope: PipelineScope, database: Connection, pattern: str, writer: str) -> TableInfo | None:
    """The table of files that another pipeline will write; None if it is not known."""
    if scope.name in scope.planner.deriving:
        return None
    scope.planner.deriving.add(scope.name)
    try:
        table = scope.planner.target_table(writer)
    finally:
        scope.planner.deriving.discard(scope.name)
    return None if table is None else as_file_source(database).files_like(table, pattern)


def check_files_once(scope: PipelineScope, source: TableInfo) -> None:
    """Check the settings of files that are loaded once, or moved."""
    settings = scope.settings
    if settings.min_age is not None and not settings.loads_each_once:
        scope.problem("min_age", "a file that is left out now would never be loaded by itself", "set files_once = true")
    if settings.when_loaded is not None and settings.when_loaded.move is not None:
        move = settings.when_loaded.move
        with scope.at("when_loaded"):
            check_pattern(move)
            if fits(source.name, f"{move.rstrip('/')}/{getattr(source, 'first', '')}"):
                raise KanalError(f"moved to {move}, files would be found again by {source.name}",
                                 "name a folder that the pattern does not lead to")  # fmt: skip
