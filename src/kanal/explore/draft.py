"""Drafts a job from what a source has: one pipeline a table, in load order, with what could not be decided marked."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import tomlkit
from msgspec import Struct, field
from sqlglot import exp
from tomlkit.exceptions import TOMLKitError

from kanal.connections import ColumnInfo, TableInfo
from kanal.connections.base import Connection, as_source, share_types
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads
from kanal.core.errors import ExpressionError, KanalError, counted
from kanal.core.expressions.syntax import parse
from kanal.core.profile import Guess, guess_type
from kanal.core.types import TEXT, Family, SqlType, holds
from kanal.definition.places import quote_part
from kanal.explore.likely import Likely, likely_targets
from kanal.explore.tables import OWN, chosen_tables, describe_tables, unreadable_files
from kanal.runner.planning.column_rules import quoted
from kanal.runner.planning.order import CircleError, Wait, in_order
from kanal.runner.write_rules import WRITE_RULES

#: Rows of each table that are looked at.
SAMPLE = 1_000
#: From this share of the sampled texts on, a conversion is proposed; below it, mentioned.
_PROPOSED = 0.9
_CHANGE = re.compile(r"(chang|updat|modif|mutat|edit|revis|last_|touch)", re.IGNORECASE)
_MAYBE = re.compile(r"(creat|insert|enter|add|record|arriv|stamp)", re.IGNORECASE)
_BEGINS = re.compile(r"(from|begin|start|since)", re.IGNORECASE)
_ENDS = re.compile(r"(until|end|stop|(?<![a-z])to(?![a-z]))", re.IGNORECASE)
_TIMES = (Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ)


class Wish(Struct, frozen=True):
    """What a draft is to be like: which tables, the names of their targets, the write rule, change columns or not."""

    like: tuple[str, ...] = ()
    not_like: tuple[str, ...] = ()
    from_schema: str | None = None
    schema: str | None = None
    prefix: str = ""
    write: str = "truncate"
    since: bool = False
    sample: int = SAMPLE


class _Pipeline(Struct):
    name: str
    source: TableInfo
    target: str
    settings: list[str] = field(default_factory=list)
    columns: list[str] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    waits: list[str] = field(default_factory=list)
    #: Lines of [columns] for the table that is likeliest meant.
    proposed: list[str] = field(default_factory=list)


def draft_job(name: str, source: Connection, target: Connection, connections: Mapping[str, str], wish: Wish) -> str:
    """A job file, as text, for the tables of a source that fit; `connections` are the texts of its connections.

    Raises KanalError if no table fits.
    """
    pipelines, left = _pipelines(source, target, wish)
    missing = not all(_exists(target, wish, pipeline) for pipeline in pipelines)
    lines = [
        f"# Drafted from {counted(len(pipelines), 'table')} of connection {source.name}.",
        "# Lines marked with ? are for you to decide. See what would happen by: kanal check --sample 1000 FILE",
        f'job = "{name}"',
        "",
    ]
    for connection, text in connections.items():
        lines += [f"[connection.{key_text(connection)}]", text, ""]
    lines += ["[defaults]", f'write = "{wish.write}"']
    if missing:
        lines.append('create = "missing"  # tables that are not there are made, as kanal create would')
    if target.missing_file:
        left = [*left, f"The file of connection {target.name} is not there yet; it is made with the first table."]
    lines += ["", *_remarks(left)] if left else []
    for level, members in _levels(pipelines):
        lines += ["", f"# --- {level} ".ljust(100, "-")]
        for pipeline in members:
            lines += ["", *_lines(pipeline, source, target, wish)]
    return "\n".join(lines).rstrip() + "\n"


def add_to_draft(
    path: Path, source: Connection, target: Connection, connections: Mapping[str, str], wish: Wish
) -> list[str]:
    """Add to a job file the tables that it does not load yet, and nothing else; the names of what was added.

    What is in the file stays as it is. Raises KanalError if the file is no TOML.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, ValueError):
        raise KanalError(f"{path} cannot be read as text in UTF-8", "name another file") from None
    try:
        there: Any = tomlkit.parse(text).unwrap()
    except TOMLKitError as error:
        raise KanalError(f"{path} is not TOML: {error}", "correct it first") from None
    known = {_place(pipeline.get("source")) for pipeline in there.get("pipeline", {}).values()}
    pipelines, _ = _pipelines(source, target, wish)
    new = [pipeline for pipeline in pipelines if _place(_source(source, pipeline, wish)) not in known]
    lines = []
    for connection, body in connections.items():
        if connection not in there.get("connection", {}):
            lines += ["", f"[connection.{key_text(connection)}]", body]
    for pipeline in new:
        while pipeline.name in there.get("pipeline", {}):
            pipeline.name += "_new"
        given = _lines(pipeline, source, target, wish)
        if there.get("defaults", {}).get("write", "append") != wish.write and not any(
            "write =" in line for line in given
        ):
            given.insert(_after_target(given), f'write = "{wish.write}"')
        if not _exists(target, wish, pipeline) and there.get("defaults", {}).get("create") != "missing":
            given.insert(_after_target(given), 'create = "missing"')
        lines += ["", *given]
    if lines:
        path.write_text(text.rstrip() + "\n" + "\n".join(lines) + "\n", encoding="utf-8")
    return [pipeline.name for pipeline in new]


def _after_target(lines: list[str]) -> int:
    return next(place for place, line in enumerate(lines, 1) if line.startswith("target ="))


def _place(source: Any) -> str:
    if isinstance(source, dict) and source.get("files"):
        source = f"{source.get('connection')}:{source['files']}"
    return source.casefold() if isinstance(source, str) else str(source)


def _exists(target: Connection, wish: Wish, pipeline: _Pipeline) -> bool:
    return target.catalogue.has_table(wish.schema, pipeline.target)


# --- what is drafted ------------------------------------------------------------------------------------------------


def _pipelines(source: Connection, target: Connection, wish: Wish) -> tuple[list[_Pipeline], list[str]]:
    """A pipeline for each table, in load order, and what is to be said of what was left out."""
    names = chosen_tables(source, wish.from_schema, wish.like, wish.not_like)
    tables, unreadable = describe_tables(source, wish.from_schema, names)
    left = [f"? left out: {why}" for why in unreadable.values()]
    views, parts = [], []
    if not wish.like:
        views = [table.name for table in tables if table.is_view]
        parts = [table.name for table in tables if table.part_of in names]
        tables = [table for table in tables if table.name not in (*views, *parts)]
    if views:
        left.append(f"Views were left out; name them by --like: {', '.join(views)}")
    if parts:
        left.append(f"Partitions were left out, whose rows their tables have: {', '.join(parts)}")
    if not tables:
        raise KanalError(f"connection {source.name} has views only", f"name them by --like: {', '.join(views[:12])}")
    folded = [table.name.casefold() for table in tables]
    twins = [table.name for table in tables if folded.count(table.name.casefold()) > 1]
    if twins:
        left.append(f"? Names that differ only in case: {', '.join(twins)}; some databases take them for one table")
    target.catalogue.expect(wish.schema, [wish.prefix + _target_of(source, table) for table in tables])
    pipelines: dict[str, _Pipeline] = {}
    for table in tables:
        name = _step_name(table.name, pipelines)
        into = wish.prefix + _target_of(source, table)
        into = name if into in {other.target for other in pipelines.values()} else into
        pipelines[name] = _Pipeline(name, table, into)
    likely = _likely(pipelines.values(), target, wish)
    by_table = {pipeline.source.name: pipeline for pipeline in pipelines.values()}
    waits = []
    for pipeline in pipelines.values():
        for key in pipeline.source.foreign_keys:
            other = by_table.get(key.table)
            if other is not None and other is not pipeline and other.name not in pipeline.waits:
                pipeline.waits.append(other.name)
                waits.append(Wait(pipeline.name, other.name, f"refers to {key.table}"))
        _decide(pipeline, source, target, wish)
        if pipeline.source.name in likely:
            _propose(pipeline, likely[pipeline.source.name], target, wish)
    try:
        ordered = in_order(list(pipelines), waits)
    except CircleError:  # which is broken when the job is planned
        ordered = list(pipelines)
    return [pipelines[name] for name in ordered], left


def _target_of(source: Connection, table: TableInfo) -> str:
    """The name of a table to be loaded from another: of a file, what stands before the first dot."""
    if Reads.FILES not in source.reads:
        return table.name
    return re.sub(r"\W+", "_", table.name.rpartition("/")[2].partition(".")[0]).strip("_") or "files"


def _likely(pipelines: Collection[_Pipeline], target: Connection, wish: Wish) -> dict[str, Likely]:
    """For source tables that the target has no table of the name of, those that are likely meant."""
    alone = [pipeline for pipeline in pipelines if not _exists(target, wish, pipeline)]
    taken = {pipeline.target.casefold() for pipeline in pipelines} | {name.casefold() for name in OWN}
    names = [] if target.missing_file else target.catalogue.table_names(wish.schema)
    free = [name for name in names if name.casefold() not in taken]
    if not alone or not free:
        return {}
    target.catalogue.expect(wish.schema, free)
    tables = [target.catalogue.describe(wish.schema, name) for name in free]
    return likely_targets(
        [pipeline.source for pipeline in alone], [table for table in tables if not table.is_view and not table.part_of]
    )


def _propose(pipeline: _Pipeline, likely: Likely, target: Connection, wish: Wish) -> None:
    """Remark the table that is likely meant, and the columns of it under other names."""
    table = likely.table
    place = f"{quote_part(wish.schema)}.{quote_part(table.name)}" if wish.schema else quote_part(table.name)
    count = f"{len(likely.columns)} of its {counted(len(table.columns), 'column')}"
    pipeline.settings.insert(0, f"# ? target = {_text(f'{target.name}:{place}')}  # the likeliest table that is there: "
                                f"{count} have a counterpart")  # fmt: skip
    for into, taken in likely.columns.items():
        if into.casefold() != taken.casefold():
            pipeline.proposed.append(f"# ? {key_text(into)} = {_text(_expression(taken))}")


def _step_name(table: str, taken: Mapping[str, Any]) -> str:
    name = re.sub(r"[^A-Za-z0-9_-]+", "_", table).strip("_") or "table"
    while name in taken:
        name += "_2"
    return name


def _decide(pipeline: _Pipeline, source: Connection, target: Connection, wish: Wish) -> None:
    """Fill in what can be decided of a pipeline, and remark what cannot."""
    table = pipeline.source
    there = target.catalogue.describe(wish.schema, pipeline.target) if _exists(target, wish, pipeline) else None
    write = wish.write
    keys = [key for key in (table.primary_key, *table.unique) if key]
    if there is not None:
        keys += [key for key in (there.primary_key, *there.unique) if key and len(table.chosen(key)) == len(key)]
    if not keys:
        pipeline.remarks.append("? it has no key: its rows are compared as wholes, and cannot be merged")
    if WRITE_RULES[write].needs_key and keys:
        pipeline.settings.append(f"key = [{', '.join(map(_text, keys[0]))}]")
    elif WRITE_RULES[write].needs_key:
        write = "truncate"
        pipeline.settings.append('write = "truncate"  # ? the source has no key to merge by; name one, or keep this')
    if WRITE_RULES[write].keeps_versions:
        _decide_history(pipeline, there)
    if wish.since and not WRITE_RULES[write].empties:
        _decide_since(pipeline)
    alike = share_types(source, target)
    for column in table.columns:
        if column.type is None and not alike:
            declared = column.declared or "without a name"
            pipeline.remarks.append(f"? {column.name}: the type {declared} is not known here; it goes as text")
    if there is not None:
        _compare_columns(pipeline, table, there)
    proposals, unreadable = _proposals(source, table, table.columns, there, wish)
    pipeline.columns += proposals.values()
    pipeline.remarks += [f"? {why}" for why in unreadable.values()]
    if pipeline.columns:
        pipeline.settings.append('same = "*"')


def _times(table: TableInfo) -> list[ColumnInfo]:
    """The dates and timestamps of a table."""
    return [column for column in table.columns if column.type is not None and column.type.family in _TIMES]


def _decide_history(pipeline: _Pipeline, there: TableInfo | None) -> None:
    """Choose the columns that hold the history: new ones, or those of the target that look like it."""
    source = pipeline.source
    changes = [column for column in _times(source) if _CHANGE.search(column.name) and not column.nullable]
    begins, ends = _free("valid_from", source), _free("valid_to", source)
    unsure = ""
    if there is not None:
        own = [column.name for column in _times(there) if source.column(column.name) is None]
        starts = [name for name in own if _BEGINS.search(name)]
        stops = [name for name in own if _ENDS.search(name)]
        unsure = "" if len(starts) == len(stops) == 1 else "# ? "
        begins, ends = next(iter(starts), "…"), next(iter(stops), "…")
    parts = [f"from = {_text(begins)}", f"until = {_text(ends)}"]
    parts += [f"at = {_text(_expression(changes[0].name))}"] if len(changes) == 1 else []
    why = "  # name the columns that hold the beginning and the end of a version" if unsure else ""
    pipeline.settings.append(f"{unsure}history = {{ {', '.join(parts)} }}{why}")
    if len(changes) == 1 and (there is None or there.column(changes[0].name) is None):
        pipeline.settings.append(f"skip = [{_text(changes[0].name)}]  # it is the beginning of a version")
    if len(changes) != 1:
        names = ", ".join(column.name for column in changes or _times(source))
        which = f"; if one of these is, add it as at: {names}" if names else ""
        pipeline.remarks.append(f"? no column is certainly the moment of a change: the moment of the run counts{which}")


def _free(name: str, table: TableInfo) -> str:
    """A name for a new column that no column of a table has."""
    return name if table.column(name) is None else _free(f"{name}_", table)


def _decide_since(pipeline: _Pipeline) -> None:
    columns = _times(pipeline.source)
    sure = [column for column in columns if _CHANGE.search(column.name)]
    maybe = [column for column in columns if _MAYBE.search(column.name)]
    if len(sure) == 1 and not sure[0].nullable:
        pipeline.settings.append(f"since = {_text(_expression(sure[0].name))}")
        return
    for column in sure or maybe or columns:
        why = "it may be NULL" if column.nullable else "does it change with every change of its row?"
        pipeline.settings.append(f"# ? since = {_text(_expression(column.name))}  # {why}")
    if not columns:
        pipeline.settings.append("# ? no column tells when a row was changed: all rows are read each time")


def _compare_columns(pipeline: _Pipeline, table: TableInfo, there: TableInfo) -> None:
    lacking = [column.name for column in table.columns if there.column(column.name) is None]
    if lacking:
        pipeline.remarks.append(f"? the target has no column of the name of: {', '.join(lacking)}")
    for column in there.columns:
        if table.column(column.name) is None and not column.nullable and not column.filled:
            why = f"{column.declared} NOT NULL, and the source has none of this name"
            pipeline.columns.append(f'# ? {key_text(column.name)} = "…"  # {why}')
    for column in table.columns:
        into = there.column(column.name)
        if into is None or into.type is None or column.type is None or column.type == TEXT:
            continue
        if holds(into.type, column.type) is not False:
            continue
        pipeline.remarks.append(f"? {column.name}: {column.declared} does not always fit into {into.declared}")


def mapping_lines(
    source: Connection, table: TableInfo, columns: Sequence[ColumnInfo], there: TableInfo, wish: Wish
) -> list[str]:
    """Lines of [columns] that carry some columns of a table over under their own names."""
    proposals, _ = _proposals(source, table, columns, there, wish)
    lines = []
    for column in columns:
        proposed = proposals.get(column.name, "")
        sure = bool(proposed) and not proposed.startswith("#")
        lines += [proposed] if proposed else []
        lines += [] if sure else [f"{key_text(column.name)} = {_text(_expression(column.name))}"]
    return lines


def _proposals(
    source: Connection, table: TableInfo, columns: Sequence[ColumnInfo], there: TableInfo | None, wish: Wish
) -> tuple[dict[str, str], dict[str, str]]:
    """Lines of [columns] that convert texts which are numbers, dates or times, by column; and why files of the table
    cannot be read to their ends, by name."""
    texts = [column for column in columns if column.type is not None and column.type.family is Family.TEXT]
    wanted = [column for column in texts if _may_be_converted(column, there)]
    if not wanted or not wish.sample:
        return {}, {}
    unreadable: dict[str, str] = {}
    names = tuple(column.name for column in wanted)
    parts: dict[str, list[pa.Array]] = {name: [] for name in names}
    with as_source(source).read(Reading(table, None, names, wish.sample, limit=wish.sample)) as batches:
        for batch in batches:
            unreadable |= unreadable_files(batch)
            for name in names:
                parts[name].append(batch.columns[name].cast(pa.string()))
    lines = {}
    for column in wanted:
        values = pa.chunked_array(parts[column.name], pa.string()).drop_null()
        guess = guess_type(values) if len(values) else None
        if guess is not None:
            into = there.column(column.name) if there is not None else None
            lines[column.name] = _proposal(column, guess, into, values)
    return lines, unreadable


def _may_be_converted(column: ColumnInfo, there: TableInfo | None) -> bool:
    into = there.column(column.name) if there is not None else None
    return there is None or (into is not None and into.type is not None and into.type.family is not Family.TEXT)


def _proposal(column: ColumnInfo, guess: Guess, into: ColumnInfo | None, values: Any) -> str:
    """A line of [columns] that converts texts; behind a # ? if the sample does not tell enough."""
    made = into.type if into is not None and into.type is not None else _exact_type(guess, values)
    parts = [f"from = {_text(_expression(column.name))}"]
    parts += [f'type = "{made}"'] if into is None else []
    parts += [f"{name} = {_value(getattr(guess.options, name))}" for name in sorted(guess.options.given())]
    nothing = ([""] if pc.any(pc.equal(values, "")).as_py() else []) + list(guess.nothing)
    parts += [f"null_values = {_value(tuple(nothing))}"] if nothing else []
    share = "all" if guess.share == 1 else f"{int(guess.share * 1000) / 10:g} % of"
    line = f"{key_text(column.name)} = {{ {', '.join(parts)} }}"
    plain_number = made.is_number and not guess.options.given()
    if guess.share < _PROPOSED or guess.also or (plain_number and into is None):
        why = f"or {guess.also}" if guess.also else f"{share} sampled texts fit"
        return f"# ? {line}  # {why}"
    others = f"; no value: {guess.texts_of_nothing}" if guess.nothing else ""
    return f"{line}  # {share} sampled texts fit{others}"


def _value(value: Any) -> str:
    """An option as TOML has it."""
    return f"[{', '.join(map(_text, value))}]" if isinstance(value, tuple) else _text(value)


def _exact_type(guess: Guess, values: Any) -> SqlType:
    """The type guessed; a decimal as wide as the sample needs, and some digits more."""
    if guess.type.family is not Family.DECIMAL:
        return guess.type
    whole = scale = 1
    for text in values.unique().to_pylist():
        digits = text.strip().lstrip("+-").replace(guess.options.grouping_mark or " ", "")
        before, _, after = digits.partition(guess.options.decimal_mark or ".")
        if (before + after).isdigit():
            whole, scale = max(whole, len(before)), max(scale, len(after))
    return SqlType("decimal", precision=min(38, whole + scale + 2), scale=scale)


# --- how it is written ----------------------------------------------------------------------------------------------


def _levels(pipelines: Sequence[_Pipeline]) -> list[tuple[str, list[_Pipeline]]]:
    """The pipelines, those that wait for none first; what they wait for comes before them."""
    first = [pipeline for pipeline in pipelines if not pipeline.waits]
    later = [pipeline for pipeline in pipelines if pipeline.waits]
    groups = [("tables that refer to no others", first), ("tables that refer to those before", later)]
    return [group for group in groups if group[1]]


def _lines(pipeline: _Pipeline, source: Connection, target: Connection, wish: Wish) -> list[str]:
    schema = f"{quote_part(wish.schema)}." if wish.schema else ""
    lines = _format_lines(pipeline)
    lines += _remarks(pipeline.remarks)
    lines += [f"[pipeline.{pipeline.name}]", f"source = {_source_text(source, pipeline, wish)}"]
    lines.append(f"target = {_text(f'{target.name}:{schema}{quote_part(pipeline.target)}')}")
    lines += pipeline.settings
    if pipeline.columns:
        lines += [f"[pipeline.{pipeline.name}.columns]", *pipeline.columns, *pipeline.proposed]
    elif pipeline.proposed:
        same = [] if any(line.startswith("same") for line in pipeline.settings) else ['# ? same = "*"']
        lines += [*same, f"# ? [pipeline.{pipeline.name}.columns]", *pipeline.proposed]
    return lines


def _source_text(source: Connection, pipeline: _Pipeline, wish: Wish) -> str:
    """The place that a pipeline reads, as TOML has it."""
    form, name = getattr(pipeline.source, "form", None), pipeline.source.name
    if Reads.FILES not in source.reads or (form is None and re.fullmatch(r"[\w./-]+", name)):
        return _text(_source(source, pipeline, wish))
    files = f"files = {_text(name)}" + (f", format = {_text(pipeline.name)}" if form is not None else "")
    return f"{{ connection = {_text(source.name)}, {files} }}"


def _format_lines(pipeline: _Pipeline) -> list[str]:
    """The format of a pipeline's file, as it seems to be written."""
    form = getattr(pipeline.source, "form", None)
    said = [f"# As it seems: {guess}." for guess in getattr(pipeline.source, "guessed", ())]
    if form is None:
        return said
    given = {name: value for name, value in form.given().items() if value is not None}
    lines = [f"{name} = {_toml(value)}" for name, value in given.items()]
    return [f"[format.{pipeline.name}]", *said, *lines, ""]


def _toml(value: Any) -> str:
    """A value of a format as TOML has it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value) if isinstance(value, int) else _value(value)


def _source(source: Connection, pipeline: _Pipeline, wish: Wish) -> str:
    if Reads.FILES in source.reads:
        return f"{source.name}:{pipeline.source.name}"
    schema = f"{quote_part(wish.from_schema)}." if wish.from_schema else ""
    return f"{source.name}:{schema}{quote_part(pipeline.source.name)}"


def _remarks(remarks: Sequence[str]) -> list[str]:
    return [f"# {remark}" for remark in remarks]


def _expression(name: str) -> str:
    """A column's name as an expression: in double quotes if it would be read as something else."""
    try:
        tree = parse(name).unnest()
    except ExpressionError:
        return quoted(name)
    return name if isinstance(tree, exp.Column) and tree.name == name else quoted(name)


def key_text(name: str) -> str:
    """A key as TOML has it."""
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else _text(name)


def _text(value: Any) -> str:
    return tomlkit.string(str(value)).as_string()
