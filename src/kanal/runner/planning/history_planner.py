"""Plans how versions of rows are kept, and says what is wrong with it."""

from __future__ import annotations

from kanal.connections import ColumnInfo, TableInfo
from kanal.core.columns import TargetColumn
from kanal.core.expressions import Scope
from kanal.core.nearest import did_you_mean
from kanal.core.transformation import ColumnPlan, ColumnRule
from kanal.core.types import Family
from kanal.runner.planning.mapping_planner import MOMENTS, MappingPlanner, moment_of_run


class HistoryPlanner(MappingPlanner):
    """The part of a pipeline's planning that has to do with its history."""

    def _key_of_history(self, target: TableInfo, key: tuple[str, ...]) -> tuple[str, ...]:
        """The key of a history's changes, which is that of the rows and the moment; says what is wrong with it."""
        history = self.settings.history
        assert history is not None
        if not self.rule.keeps_versions:
            return key
        found: dict[str, ColumnInfo] = {}
        named = {
            "from": history.from_, "until": history.until, "current": history.current, "surrogate": history.surrogate,
        }  # fmt: skip
        for part, name in [*named.items(), *(("overwrite", name) for name in history.overwrite)]:
            column = target.column(name) if name is not None else None
            if name is not None and column is None:
                what = f'{part}: there is no column "{name}" in {target.name}'
                self._problem("history", what, did_you_mean(name, target.names))
            elif column is not None and part == "overwrite" and column.name in key:
                self._problem("history", f'overwrite: "{column.name}" is in the key', "leave it out")
            elif column is not None and part != "overwrite":
                if column.name in (*key, *(other.name for other in found.values())):
                    self._problem("history", f'{part}: "{column.name}" has another part already', "name another column")
                found[part] = column
        begins, ends = found.get("from"), found.get("until")
        if begins is not None and (begins.type is None or begins.type.family not in MOMENTS):
            self._problem("history", f'from: "{begins.name}" is {begins.declared}', "take a date or a timestamp")
        elif begins is not None and ends is not None and ends.type != begins.type:
            self._problem("history", f'until: "{ends.name}" is {ends.declared}, and from is {begins.declared}',
                          "give both one type")  # fmt: skip
        elif ends is not None and not ends.nullable:
            self._problem(
                "history", f'until: "{ends.name}" is NOT NULL', "let it be NULL, as it is in current versions"
            )
        current = found.get("current")
        if current is not None and (
            current.type is None or current.type.family not in (Family.BOOLEAN, Family.INTEGER)
        ):
            self._problem("history", f'current: "{current.name}" is {current.declared}', "take a boolean or an integer")
        surrogate = found.get("surrogate")
        if surrogate is not None and not surrogate.filled and not surrogate.numbered:
            self._problem(
                "history",
                f'surrogate: {target.name} does not number its rows in "{surrogate.name}"',
                "declare it as an identity or auto-increment column, or let Kanal create the table",
            )
        return (*key, begins.name) if begins is not None else key

    def _check_history(self) -> None:
        """What goes with a history, and what does not."""
        settings = self.settings
        if (settings.history is not None) != self.rule.keeps_versions:
            given = self.rule.keeps_versions
            what = "it is not said which columns hold it" if given else 'only write = "history" keeps one'
            remedy = 'add history = { from = "…", until = "…" }' if given else 'set write = "history"'
            self._problem("write" if given else "history", what, remedy)
        if not self.rule.keeps_versions:
            return
        wrong = {"matched": settings.matched != "update", "not_matched": settings.not_matched != "insert"}
        wrong |= {"newer_by": settings.newer_by is not None, "delete_when": settings.delete_when is not None}
        for name, there in wrong.items():
            if there:
                self._problem(name, "it does not go with a history, in which each change is a version", "leave it out")

    def _closing(self, target: TableInfo) -> ColumnPlan | None:
        """The moment of the run in the column from which versions are valid."""
        history = self.settings.history
        begins = target.column(history.from_) if history is not None else None
        if begins is None:
            return None
        scope = Scope({}, {}, self.job.parameters, "the run", self.planner.functions)
        rule = ColumnRule(expression=moment_of_run(begins))
        return ColumnPlan(rule, TargetColumn(begins.name, begins.type, False), scope, {})
