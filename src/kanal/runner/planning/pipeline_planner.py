"""Compiles one pipeline against its databases; all that is wrong with it becomes problems of the job."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from kanal.connections import ColumnInfo, TableInfo
from kanal.connections.base import Source, as_source
from kanal.connections.files.stores import check_pattern, fits
from kanal.connections.reading import Reading
from kanal.connections.roles import Reads, Writes, lacks
from kanal.core.change_values import GROWING, change_value
from kanal.core.errors import ExpressionError, KanalError
from kanal.core.expressions import Expression, Scope, compile_expression
from kanal.core.expressions.nodes import convert
from kanal.core.nearest import did_you_mean
from kanal.core.transformation import ColumnPlan, LookupPlan
from kanal.core.types import BOOLEAN, Family, SqlType
from kanal.definition import Check
from kanal.runner.job_plan import CheckPlan, PipelinePlan, SincePlan, refuse_rebuild, refuse_swap
from kanal.runner.planning.history_planner import HistoryPlanner

if TYPE_CHECKING:
    from kanal.core.expressions.pushdown import PushedCondition


class PipelinePlanner(HistoryPlanner):
    """Compiles one pipeline; what is wrong becomes problems of the job's planner."""

    def plan(self) -> PipelinePlan | None:
        before = len(self.planner.problems)
        settings = self.settings
        source = self._source_of_files()
        target = None
        with self.planner.at((*self.path, "target")):
            target = self._target_table()
        if target is not None and (refused := self.target.refuses_table(target)) is not None:
            self._problem("target", *refused)
        if source is None or target is None:
            return None
        self._check_abilities()
        described = source.source_columns()
        types = {name: column.type for name, column in described.items()}
        place = settings.source.table or "the query's rows"
        lookups = self._lookups(types, place)
        scope = self._scope(types, {plan.name: plan.types for plan, _, _ in lookups}, place)
        of_rows = Scope(types, {}, self.job.parameters, place, self.planner.functions)
        where, delete_when = self._condition("where", of_rows), self._condition("delete_when", of_rows)
        key = self._key(target) or self._key_to_replace_by(target)
        if settings.history is not None:
            key = self._key_of_history(target, key)
        sound = len(self.planner.problems)
        columns = self._columns(source, target, scope, described, key)
        checks = self._checks(columns)
        self._check_history()
        if len(self.planner.problems) == sound:
            self._check_key(key, columns)
        self._check_shared(target)
        self._check_own_lookups(lookups, target)
        order_by = self._order_of_batches(source) if settings.commits.by_batch else self._order_by(source)
        since = self._since(Scope(types, {}, self.job.parameters, place, self.planner.functions), source)
        split_by = self._split(source)
        if len(self.planner.problems) > before:
            return None
        self._carry(columns, source, target)
        plans = [plan for plan, _, _ in lookups]
        expressions = [column.expression for column in columns]
        expressions += [one for one in (where, delete_when) if one is not None]
        expressions += [probe for plan in plans for probe in plan.probes]
        used = self._used(source, expressions, since, order_by)
        reading = Reading(
            source,
            settings.source.query,
            _in_order_of_mapping(source, used, columns),
            settings.batch_rows,
            order_by,
            # After a filter, as many rows are taken as pass it.
            settings.limit if where is None else None,
            self._conditions(source),
            seeks=settings.commits.by_batch,
            batch_bytes=settings.batch_bytes,
        )
        keys_reading = None
        if settings.missing == "delete" and since is not None:
            of_keys = [column for column in columns if column.name in key]
            named = [column.expression for column in of_keys] + [probe for plan in plans for probe in plan.probes]
            used = set[str]().union(*(expression.of_source for expression in named))
            whole = replace(reading, order_by=(), limit=None, conditions=(), seeks=False)
            keys_reading = replace(whole, columns=_in_order_of_mapping(source, used, of_keys))
        notes = self._notes_of_target() + tuple(
            f"{' '.join(str(part) for part in condition if part is not None)} is asked of the source: rows without it "
            "are not read"
            for condition in reading.conditions
        )
        made = PipelinePlan(
            self.name,
            settings,
            self.source,
            self.target,
            reading,
            target,
            where,
            delete_when,
            tuple(lookups),
            tuple(columns),
            tuple(checks),
            key,
            types,
            notes,
            since,
            split_by,
            keys_reading,
            self._closing(target) if settings.history is not None else None,
            files_at_once=min(self.job.workers, 8) if Reads.FILES in self.source.reads else 1,
        )
        self._check_replacing(made)
        return made

    def _carry(self, columns: Sequence[ColumnPlan], source: TableInfo, target: TableInfo) -> None:
        """Have columns go on as the source sends them, where the target takes them so."""
        for column in columns:
            info, there = source.column(column.unchanged or ""), target.column(column.name)
            column.carried = bool(info and there and self.source.carries(info, self.target, there))

    def _check_replacing(self, plan: PipelinePlan) -> None:
        """Whether the target or its indexes can be made anew, where that is asked for."""
        self._check_swap(plan)
        self._check_rebuild(plan)

    def _check_swap(self, plan: PipelinePlan) -> None:
        own = "publish" in self.job.pipeline[self.name].model_fields_set
        if self.settings.publish == "swap" and own and not plan.swaps:
            what = "a table is exchanged for one that several workers have filled"
            self._problem("publish", what, 'set write = "truncate" and split, or leave publish out')
        elif (
            plan.swaps and Writes.SWAP in self.target.writes and not self.planner.is_new(self.target, plan.target_table)
        ):
            with self.planner.at((*self.path, "publish")):
                refuse_swap(plan)

    def _check_rebuild(self, plan: PipelinePlan) -> None:
        settings = self.settings
        asked = settings.rebuild_indexes and "rebuild_indexes" in self.job.pipeline[self.name].model_fields_set
        if asked and (not self.rule.empties or settings.commits.by_batch):
            what = "indexes are made anew for a table that is emptied and filled in one transaction"
            self._problem("rebuild_indexes", what, 'set write = "truncate" and commit = "step", or leave it out')
        elif (
            plan.rebuilds
            and Writes.REBUILD in self.target.writes
            and not self.planner.is_new(self.target, plan.target_table)
        ):
            with self.planner.at((*self.path, "rebuild_indexes")):
                refuse_rebuild(plan)

    def _source_of_files(self) -> TableInfo | None:
        """The source; raises NoFiles where it is files of which there are none, which may come later."""
        source = self._source()
        if self._none_there is not None:
            raise self._none_there
        if source is not None and Reads.FILES in self.source.reads:
            self._check_files_once(source)
        return source

    def _used(
        self, source: TableInfo, expressions: Sequence[Expression], since: SincePlan | None, order_by: Sequence[str]
    ) -> set[str]:
        """The columns of the source that are read."""
        used = set[str]().union(*(expression.of_source for expression in expressions))
        # The key of the source is kept with every reject, to find the row again.
        used |= set(source.primary_key)
        if since is not None:
            used |= {name for _, name in since.change.uses}
        if self.settings.commits.by_batch:
            used |= set(order_by)
        if Reads.FILES in self.source.reads:
            used |= {"file.name", "file.line"}  # by which a reject is found in its file
        return used

    def _check_files_once(self, source: TableInfo) -> None:
        """What does not go with files that are loaded once, or moved."""
        settings = self.settings
        asked = "files_once" if settings.files_once else "when_loaded" if settings.when_loaded is not None else ""
        if settings.min_age is not None and not asked:
            self._problem(
                "min_age", "a file that is left out now would never be loaded by itself", "set files_once = true"
            )
        for key, goes, why in (
            ("write", not self.rule.empties, "it empties the target, which then has the new files alone"),
            ("limit", settings.limit is None, "rows beyond the limit would be taken for loaded"),
            ("missing", settings.missing == "keep", "which rows are missing is not known from the new files"),
        ):
            if asked and not goes:
                self._problem(key, f"this does not go with {asked}: {why}", "remove one of the two")
        if settings.when_loaded is not None and settings.when_loaded.move is not None:
            move = settings.when_loaded.move
            with self.planner.at((*self.path, "when_loaded")):
                check_pattern(move)
                if fits(source.name, f"{move.rstrip('/')}/{getattr(source, 'first', '')}"):
                    raise KanalError(f"moved to {move}, files would be found again by {source.name}",
                                     "name a folder that the pattern does not lead to")  # fmt: skip

    def _check_own_lookups(self, lookups: Sequence[tuple[LookupPlan, Source, TableInfo]], target: TableInfo) -> None:
        """Rows that look up others of this very load are not written in their order."""
        duplicates, place = self.settings.duplicates, self.target.place_of(target)
        own = [plan.name for plan, database, table in lookups if database.place_of(table) == place]
        if own and duplicates != "reject" and not self.settings.commits.by_batch:
            self._problem(
                "duplicates",
                f'"{duplicates}" does not go with look-up {own[0]}: rows that look up others of this load are not '
                "written in the order of the source",
                'set duplicates = "reject"',
            )

    def _check_abilities(self) -> None:
        """Whether source and target can do what the pipeline asks of them."""
        settings, reads = self.settings, self.source.reads

        def by_itself(key: str) -> bool:
            """True for a key of the pipeline's own, which [defaults] may set for others too."""
            return key in self.job.pipeline[self.name].model_fields_set or Reads.FILES in reads

        wanted: list[tuple[str, bool, Reads | Writes]] = [
            ("source", settings.source.query is not None, Reads.QUERY),
            ("order_by", bool(settings.order_by), Reads.ORDER),
            ("commit", settings.commits.by_batch, Reads.SEEK),
            ("split", settings.split is not None, Reads.SPLIT),
            *(("write", True, ability) for ability in sorted(self.rule.needs)),
            ("missing", settings.missing == "delete", Writes.DELETE),
            ("commit", settings.commits.by_batch, Writes.REMEMBER),
            ("commit", settings.commits.shared, Writes.SHARE),
            ("since", settings.since is not None, Writes.REMEMBER),
            ("first_sql", settings.first_sql is not None, Writes.SQL),
            ("last_sql", settings.last_sql is not None, Writes.SQL),
            ("files_once", settings.files_once and by_itself("files_once"), Reads.FILES),
            ("when_loaded", settings.when_loaded is not None and by_itself("when_loaded"), Reads.MOVE),
            ("min_age", settings.min_age is not None and by_itself("min_age"), Reads.FILES),
            ("files_once", settings.files_once and Reads.FILES in reads, Writes.REMEMBER),
            ("when_loaded", settings.when_loaded is not None and Reads.FILES in reads, Writes.REMEMBER),
            ("commit", settings.commits.by_batch, Writes.BATCHES),
            ("duplicates", settings.duplicates == "last", Writes.REPLACE),
            ("partition_by", bool(settings.partition_by), Writes.FILES),
            ("file_rows", settings.file_rows is not None, Writes.FILES),
            ("publish", settings.publish == "swap" and self.rule.empties, Writes.SWAP),
            ("rebuild_indexes", settings.rebuild_indexes and self.rule.empties, Writes.REBUILD),
        ]
        for key, asked, ability in wanted:
            if asked:
                self._check_ability(key, ability)

    def _check_ability(self, key: str, ability: Reads | Writes) -> None:
        """Whether source or target can do something that a key asks for."""
        connection = self.source if isinstance(ability, Reads) else self.target
        if ability not in (connection.reads if isinstance(ability, Reads) else connection.writes):
            error = lacks(connection.name, ability)
            self._problem(key, error.what, error.remedy)

    def _notes_of_target(self) -> tuple[str, ...]:
        if self.target.undoes:
            return ()
        return ("rows are sent as they come: what was sent stays if the step fails",)

    def _check_shared(self, target: TableInfo) -> None:
        """Whether rows can go in one transaction with those that refer to them."""
        goes = self.rule.empties or self.settings.missing == "delete"
        together = self.settings.commits.shared and self.target.may_refuse_emptying(target)
        if (goes and together) or ((goes or self.rule.by_key) and target.own_references):
            self._check_ability("commit", Writes.UNLINK)

    def _since(self, scope: Scope, source: TableInfo) -> SincePlan | None:
        settings = self.settings
        if settings.since is None:
            return None
        with self.planner.at((*self.path, "since")):
            change = compile_expression(settings.since.column, scope)
            family = change.type.family
            if family not in GROWING:
                raise ExpressionError(
                    f"it is {change.type}, which does not grow with each change",
                    "name a timestamp, a date or a growing number, or convert it with CAST",
                    change.text,
                )
            first = settings.since.first
            overlap: Any = settings.since.overlap
            if overlap is not None:
                is_time = family in (Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ)
                overlap = settings.since.overlap_time if is_time else overlap
                if overlap is None or isinstance(overlap, str):
                    raise KanalError(
                        f"the overlap of {change.text}, which is {change.type}, cannot be {settings.since.overlap}",
                        'write a time such as "2 hours" for times, a number for numbers',
                    )
                if not self.rule.repeatable:
                    raise KanalError("with an overlap, rows are read again, and would be appended again", "merge them")
            for key, fits, why in (
                ("write", not self.rule.empties, "it empties the target, which then has what is new alone"),
                ("limit", settings.limit is None, "rows beyond the limit would be taken for loaded"),
            ):
                if not fits:
                    self._problem(key, f"this does not go with since: {why}", "remove one of the two")
            found = source.column(settings.since.column.strip().strip('"'))
            bare = found if found is not None and len(change.uses) == 1 and found.type == change.type else None
            return SincePlan(
                change,
                bare.name if bare else None,
                bare is None or bare.nullable,
                None if first is None else change_value(first, change.type),
                overlap,
            )
        return None

    def _split(self, source: TableInfo) -> ColumnInfo | None:
        """The column by whose ranges the source is read side by side."""
        settings = self.settings
        if settings.split is None:
            return None
        with self.planner.at((*self.path, "split")):
            if settings.source.query is not None:
                raise KanalError("the rows of a query cannot be read in parts", "make a view of it, or leave split out")
            for key, fits in (
                ("order_by", not settings.order_by),
                ("limit", settings.limit is None),
                ("duplicates", settings.duplicates == "reject"),
                ("commit", not settings.commits.by_batch),
            ):
                if not fits:
                    self._problem(
                        key, "this needs an order, and the parts of a split have none", "remove one of the two"
                    )
            connection = self.job.connection.get(settings.source.connection)
            limit = connection.max_parallel if connection is not None else None
            if limit is not None and settings.split.parts > limit:
                raise KanalError(
                    f"{settings.split.parts} parts are read by as many connections, and max_parallel of connection "
                    f"{self.source.name} allows {limit}",
                    "split it in fewer parts, or allow more",
                )
            keys = [key[0] for key in (source.primary_key, *source.unique) if key]
            names = [settings.split.column] if settings.split.column else keys
            columns = [column for name in names if (column := source.column(name)) is not None]
            families = (Family.INTEGER, Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ)
            fitting = [column for column in columns if column.type is not None and column.type.family in families]
            if not fitting:
                raise KanalError(
                    f"ranges of {names[0] if names else 'no column'} cannot be told: a number, date or time is needed",
                    'name one, such as split = { column = "…", parts = 4 }',
                )
            return fitting[0]
        return None

    def _order_of_batches(self, source: TableInfo) -> tuple[str, ...]:
        """The columns in whose order batches are read, which must come the same way again when a run goes on."""
        settings, order_by = self.settings, self._order_by(source)
        for key, goes, why in (
            ("reject", settings.reject == "row", "earlier batches are committed when a bad row is found"),
            ("missing", settings.missing == "keep", "which rows are missing is known only at the end"),
            ("limit", settings.limit is None, "when a run goes on, rows would be counted anew"),
        ):
            if not goes:
                self._problem(key, f'this does not go with commit = "batch": {why}', 'set commit = "step"')
        filled = {column.name for column in source.columns if not column.nullable}
        keys = [key for key in (source.primary_key, *source.unique) if key and set(key) <= filled]
        order = order_by or (keys[0] if keys else ())
        if not order:
            self._problem(
                "commit",
                "the source has no key, so its rows come in no order in which a broken run could go on",
                'name columns in order_by that tell the rows apart, or set commit = "step"',
            )
        families = (Family.INTEGER, Family.TEXT, Family.DATE, Family.TIMESTAMP, Family.TIMESTAMPTZ, Family.UUID)
        for column in source.chosen(order):
            text = column.type is not None and column.type.family is Family.TEXT
            if text and not self.source.orders_exactly(column):
                self._problem(
                    "commit",
                    f'the source is read in the order of "{column.name}", a text, which {self.source.name} may '
                    "hold equal to another one",
                    'name columns of numbers, dates or times in order_by, or set commit = "step"',
                )
            if column.type is None or column.type.family not in families:
                self._problem(
                    "commit",
                    f'the source is read in the order of "{column.name}", which is {column.type or column.declared}',
                    "name columns of whole numbers, texts, dates or times in order_by",
                )
        return order

    def _conditions(self, source: TableInfo) -> tuple[PushedCondition, ...]:
        """The parts of the filter that are asked of the source."""
        asked = self.settings.where is not None and self.settings.source.query is None
        if not asked or Reads.FILTER not in self.source.reads:
            return ()
        assert self.settings.where is not None
        firm = [column for column in source.columns if not column.loose and column.type is not None]
        numbers = [column.name for column in firm if column.stored.family in (Family.INTEGER, Family.DECIMAL)]
        names = [column.name for column in firm]
        from kanal.core.expressions.pushdown import comparisons  # which brings the parser

        return tuple(comparisons(self.settings.where, numbers, names, self.job.parameters))

    def _key_to_replace_by(self, target: TableInfo) -> tuple[str, ...]:
        """The key by which a table's rows are replaced that cannot be emptied, since rows of others refer to them."""
        database = self.target
        if not self.rule.empties or not database.may_refuse_emptying(target):
            return ()
        mapped = {name.casefold() for name in self.settings.columns} | {name.casefold() for name in self.settings.same}
        by_name = not self.settings.columns or "*" in self.settings.same
        keys = [key for key in (target.primary_key, *target.unique) if key]
        for key in keys:
            if by_name or all(name.casefold() in mapped for name in key):
                return key
        return ()

    def _order_by(self, source: TableInfo) -> tuple[str, ...]:
        found = []
        for name in self.settings.order_by:
            column = source.column(name)
            if column is None:
                self._problem(
                    "order_by", f'there is no column "{name}" in the source', did_you_mean(name, source.names)
                )
            else:
                found.append(column.name)
        return tuple(found)

    def _condition(self, key: str, scope: Scope) -> Expression | None:
        text = getattr(self.settings, key)
        if text is None:
            return None
        with self.planner.at((*self.path, key)):
            found = compile_expression(text, scope)
            if found.type != BOOLEAN and found.type.family is not Family.NULL:
                raise ExpressionError(f"it is {found.type}, not a condition", "write a comparison", found.text)
            return found
        return None

    def _key(self, target: TableInfo) -> tuple[str, ...]:
        settings = self.settings
        if self.rule.needs_key and not settings.key:
            hint = f'add key = ["{", ".join(target.primary_key)}"]' if target.primary_key else "add key = [COLUMN, …]"
            hint = hint.replace(", ", '", "') if target.primary_key else hint
            self._problem("write", "a merge needs a key by which rows are the same", hint)
        found = []
        for name in settings.key:
            column = target.column(name)
            if column is None:
                self._problem("key", f'there is no column "{name}" in {target.name}', did_you_mean(name, target.names))
            else:
                found.append(column.name)
        return tuple(found)

    def _check_key(self, key: tuple[str, ...], columns: list[ColumnPlan]) -> None:
        settings = self.settings
        mapped = [column.name for column in columns]
        for name in key:
            if columns and name not in mapped:
                self._problem("key", f'key column "{name}" gets no value', "map it in columns")
        if settings.newer_by is not None and settings.newer_by not in mapped:
            self._problem(
                "newer_by",
                f'"{settings.newer_by}" is not a mapped column',
                did_you_mean(settings.newer_by, mapped),
            )
        if not self.rule.needs_key and settings.missing == "delete":
            self._problem("missing", "only a merge knows which rows are missing", 'set write = "merge"')
        if settings.delete_when is not None and not self.rule.needs_key:
            self._problem("delete_when", "only a merge knows which row is to go", 'set write = "merge"')
        self._check_limits()
        if settings.missing == "delete" and settings.commits.by_batch:
            self._problem(
                "missing", 'with commit = "batch", no batch knows which rows the others have', 'set commit = "step"'
            )
        if settings.missing == "delete":
            for part in ("where", "limit"):
                if getattr(settings, part) is not None:
                    self._problem(
                        "missing",
                        f"only a part of the source is read, by {part}; all other rows of the target would be deleted",
                        f'put the condition into a query as source, or remove {part}, or set missing = "keep"',
                    )
        if settings.duplicates == "last":
            self._check_last_wins()
        if settings.duplicates != "reject" and not key:
            self._problem("duplicates", "which rows are doubled is told by a key", "add key = [COLUMN, …]")

    def _check_limits(self) -> None:
        """Limits of rows that mean nothing here."""
        settings, given = self.settings, self.job.pipeline[self.name].model_fields_set
        if "max_deletes" in given and settings.missing != "delete" and settings.delete_when is None:
            self._problem("max_deletes", "nothing is deleted", 'set missing = "delete", or delete_when')
        if settings.min_rows and settings.commits.by_batch:
            self._problem(
                "min_rows",
                'with commit = "batch", rows are committed before all of them are counted',
                'set commit = "step", or leave min_rows out',
            )

    def _check_last_wins(self) -> None:
        """What does not go with the last row of a key being the one that counts."""
        settings = self.settings
        keeps = 'matched = "keep"' if settings.matched == "keep" else "newer_by" if settings.newer_by else ""
        if settings.commits.by_batch and self.rule.needs_key and keeps:
            self._problem(
                "duplicates",
                f'"last" does not go with commit = "batch" and {keeps}: a row of an earlier batch would be kept',
                'set commit = "step", or duplicates = "first"',
            )
        unique = [name for name in settings.checks if name in self.job.check_ and self.job.check_[name].unique]
        if unique:
            self._problem(
                "duplicates",
                f'"last" does not go with the check {unique[0]}, for which the first row of a value counts',
                'set duplicates = "first" or "reject", or leave the check out',
            )

    def _checks(self, columns: list[ColumnPlan]) -> list[CheckPlan]:
        types = {column.name: column.type for column in columns}
        plans = []
        for name in self.settings.checks:
            check = self.job.check_.get(name)
            if check is not None and columns:
                with self.planner.at(("check", name)):
                    plans.append(self._check(name, check, types))
        return plans

    def _check(self, name: str, check: Check, types: Mapping[str, SqlType]) -> CheckPlan:
        place = f"the mapped columns of pipeline {self.name}"
        scope = Scope(types, {}, self.job.parameters, place, self.planner.functions)
        if check.expect is not None:
            expect = compile_expression(check.expect, scope)
            if expect.type != BOOLEAN:
                raise ExpressionError(f"it is {expect.type}, not a condition", "write a comparison", expect.text)
            return CheckPlan(name, expect=expect)
        if check.unique:
            for column in check.unique:
                if column not in types:
                    raise KanalError(f'unique: there is no column "{column}" in {place}', did_you_mean(column, types))
            return CheckPlan(name, unique=tuple(check.unique))
        place_of = check.table_column
        assert place_of is not None and check.value is not None
        table = self.planner.table(place_of.table)
        database = self.planner.database(place_of.table.connection)
        if table is None or database is None:
            raise KanalError(f"{place_of.table.label} cannot be looked at", "correct its connection")
        column_info = table.column(place_of.column)
        if column_info is None:
            raise KanalError(
                f'there is no column "{place_of.column}" in {table.name}', did_you_mean(place_of.column, table.names)
            )
        value = compile_expression(check.value, scope)
        wanted = table.source_columns()[column_info.name].type
        value = Expression(value.text, convert(value.node, wanted), value.uses)
        return CheckPlan(
            name,
            value=value,
            members=(as_source(database), table, column_info.name),
            present=check.exists_in is not None,
        )


def _in_order_of_mapping(source: TableInfo, used: set[str], columns: Sequence[ColumnPlan]) -> tuple[str, ...]:
    """Columns of the source in the order in which rejects show them: its key, what the mapping names, all else."""
    mapped = [column.expression.of_source for column in columns]
    ordered = [*source.primary_key, *(name for names in mapped for name in source.names if name in names)]
    return tuple(name for name in dict.fromkeys([*ordered, *source.source_columns()]) if name in used)
