"""How a pipeline keeps versions of rows."""

from __future__ import annotations

from kanal.connections import ColumnInfo, TableInfo
from kanal.core.columns import TargetColumn
from kanal.core.expressions import Scope
from kanal.core.nearest import did_you_mean
from kanal.core.transformation import ColumnPlan, ColumnRule
from kanal.core.types import Family
from kanal.definition.problems import KeyPath
from kanal.runner.planning.scope import MOMENTS, PipelineScope


def columns_kept_by_rule(scope: PipelineScope) -> set[str]:
    """The columns, in lower case, that the write rule fills by itself."""
    history = scope.settings.history
    if history is None:
        return set()
    filled = (history.until, history.current, history.surrogate)
    return {name.casefold() for name in filled if name is not None}


def fill_history(scope: PipelineScope, target: TableInfo, rules: dict[str, tuple[KeyPath, ColumnRule]]) -> set[str]:
    """Fill the column in which a version begins; the columns, in lower case, that no mapping fills."""
    history = scope.settings.history
    if history is None:
        return set()
    begins = target.column(history.from_)
    if begins is not None and begins.name not in rules:
        rule = ColumnRule(expression=history.at or moment_of_run(begins))
        rules[begins.name] = ((*scope.path, "history", "at"), rule)
    elif history.at is not None and begins is not None:
        scope.problem("history", f'"{begins.name}" is mapped, and at fills it too', "remove one of the two")
    return {history.from_.casefold(), *columns_kept_by_rule(scope)}


def key_of_history(scope: PipelineScope, target: TableInfo, key: tuple[str, ...]) -> tuple[str, ...]:
    """The key of a history's changes: the key of the rows, and the moment. Problems are reported."""
    history = scope.settings.history
    assert history is not None
    if not scope.rule.keeps_versions:
        return key
    found: dict[str, ColumnInfo] = {}
    named = {
        "from": history.from_, "until": history.until, "current": history.current, "surrogate": history.surrogate,
    }  # fmt: skip
    for part, name in [*named.items(), *(("overwrite", name) for name in history.overwrite)]:
        column = target.column(name) if name is not None else None
        if name is not None and column is None:
            what = f'{part}: there is no column "{name}" in {target.name}'
            scope.problem("history", what, did_you_mean(name, target.names))
        elif column is not None and part == "overwrite" and column.name in key:
            scope.problem("history", f'overwrite: "{column.name}" is in the key', "leave it out")
        elif column is not None and part != "overwrite":
            if column.name in (*key, *(other.name for other in found.values())):
                scope.problem("history", f'{part}: "{column.name}" has another part already', "name another column")
            found[part] = column
    begins, ends = found.get("from"), found.get("until")
    if begins is not None and (begins.type is None or begins.type.family not in MOMENTS):
        scope.problem("history", f'from: "{begins.name}" is {begins.declared}', "take a date or a timestamp")
    elif begins is not None and ends is not None and ends.type != begins.type:
        scope.problem("history", f'until: "{ends.name}" is {ends.declared}, and from is {begins.declared}',
                      "give both one type")  # fmt: skip
    elif ends is not None and not ends.nullable:
        scope.problem("history", f'until: "{ends.name}" is NOT NULL', "let it be NULL, as it is in current versions")
    current = found.get("current")
    if current is not None and (current.type is None or current.type.family not in (Family.BOOLEAN, Family.INTEGER)):
        scope.problem("history", f'current: "{current.name}" is {current.declared}', "take a boolean or an integer")
    surrogate = found.get("surrogate")
    if surrogate is not None and not surrogate.filled and not surrogate.numbered:
        scope.problem(
            "history",
            f'surrogate: {target.name} does not number its rows in "{surrogate.name}"',
            "declare it as an identity or auto-increment column, or let Kanal create the table",
        )
    return (*key, begins.name) if begins is not None else key


def check_history(scope: PipelineScope) -> None:
    """Check that the history and the write rule belong together."""
    given = scope.rule.keeps_versions
    if (scope.settings.history is not None) != given:
        what = "it is not said which columns hold it" if given else 'only write = "history" keeps one'
        remedy = 'add history = { from = "…", until = "…" }' if given else 'set write = "history"'
        scope.problem("write" if given else "history", what, remedy)


def plan_closing(scope: PipelineScope, target: TableInfo) -> ColumnPlan | None:
    """The moment of the run in the column from which versions are valid."""
    history = scope.settings.history
    begins = target.column(history.from_) if history is not None else None
    if begins is None:
        return None
    names = Scope({}, {}, scope.job.parameters, "the run", scope.functions)
    rule = ColumnRule(expression=moment_of_run(begins))
    return ColumnPlan(rule, TargetColumn(begins.name, begins.type, False), names, {})


def moment_of_run(column: ColumnInfo) -> str:
    """The expression of the run's moment for a column."""
    family = column.type.family if column.type is not None else None
    zone = "" if family is Family.TIMESTAMPTZ else " AT TIME ZONE 'UTC'"
    moment = f"CURRENT_TIMESTAMP{zone}"
    if family is Family.DATE:
        return f"CAST({moment} AS date)"
    return f"date_trunc('second', {moment})" if column.decimals < 6 else moment
