"""Whether source and target can do what a pipeline asks of them."""

from __future__ import annotations

from kanal.connections import TableInfo
from kanal.connections.roles import Reads, Writes, lacks
from kanal.runner.job_plan import PipelinePlan, refuse_rebuild, refuse_swap
from kanal.runner.planning.scope import PipelineScope


def check_abilities(scope: PipelineScope) -> None:
    """Whether source and target can do what the pipeline asks of them."""
    settings, reads = scope.settings, scope.source.reads

    def by_itself(key: str) -> bool:
        """True for a key of the pipeline's own, which [defaults] may set for others too."""
        return scope.has_own(key) or Reads.FILES in reads

    wanted: list[tuple[str, bool, Reads | Writes]] = [
        ("source", settings.source.query is not None, Reads.QUERY),
        ("order_by", bool(settings.order_by), Reads.ORDER),
        ("commit", settings.commits.by_batch, Reads.SEEK),
        ("split", settings.split is not None, Reads.SPLIT),
        *(("write", True, ability) for ability in sorted(scope.rule.needs)),
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
        ("publish", settings.publish == "swap" and scope.rule.empties, Writes.SWAP),
        ("rebuild_indexes", settings.rebuild_indexes and scope.rule.empties, Writes.REBUILD),
    ]
    for key, asked, ability in wanted:
        if asked:
            check_ability(scope, key, ability)


def check_ability(scope: PipelineScope, key: str, ability: Reads | Writes) -> None:
    """Whether source or target can do something that a key asks for."""
    connection = scope.source if isinstance(ability, Reads) else scope.target
    if ability not in (connection.reads if isinstance(ability, Reads) else connection.writes):
        error = lacks(connection.name, ability)
        scope.problem(key, error.what, error.remedy)


def check_replacing(scope: PipelineScope, plan: PipelinePlan) -> None:
    """Check that the target can be replaced by a new table, or its indexes rebuilt, if that is asked for."""
    target, exists = scope.target, not scope.planner.tables.is_new(scope.target, plan.target_table)
    if scope.settings.publish == "swap" and scope.has_own("publish") and not plan.swaps:
        what = "a table is exchanged for one that several workers have filled"
        scope.problem("publish", what, 'set write = "truncate" and split, or leave publish out')
    elif plan.swaps and Writes.SWAP in target.writes and exists:
        with scope.at("publish"):
            refuse_swap(plan)
    if plan.rebuilds and Writes.REBUILD in target.writes and exists:
        with scope.at("rebuild_indexes"):
            refuse_rebuild(plan)


def notes_of_target(scope: PipelineScope) -> tuple[str, ...]:
    """What is worth knowing about the target."""
    if scope.target.undoes:
        return ()
    return ("rows are sent as they come: what was sent stays if the step fails",)


def check_shared(scope: PipelineScope, target: TableInfo) -> None:
    """Whether rows can go in one transaction with those that refer to them."""
    goes = scope.rule.empties or scope.settings.missing == "delete"
    together = scope.settings.commits.shared and scope.target.may_refuse_emptying(target)
    if (goes and together) or ((goes or scope.rule.by_key) and target.own_references):
        check_ability(scope, "commit", Writes.UNLINK)
