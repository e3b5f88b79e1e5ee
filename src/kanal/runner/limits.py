"""How many rows a step may reject or delete, and how many its source must give; past a limit, the load is undone."""

from __future__ import annotations

import math

from kanal.core.errors import KanalError
from kanal.core.tally import Tally
from kanal.definition.secrets import share_of
from kanal.runner.job_plan import PipelinePlan


class TooManyRejects(KanalError):
    """More rows were rejected than the pipeline allows; the load is undone."""


class TooManyDeletes(KanalError):
    """More rows of the target would be deleted than the pipeline allows; the load is undone."""


class TooFewRows(KanalError):
    """The source gave fewer rows than the pipeline requires; the load is undone."""


def limit_rejects(plan: PipelinePlan, tally: Tally, final: bool) -> None:
    """Raise TooManyRejects past the pipeline's limit; a share can only be judged at the end."""
    settings, rejected, read = plan.settings, tally.rejected, tally.read
    if final and settings.reject == "all" and rejected:
        raise TooManyRejects(
            f'{rejected:,} of {read:,} rows do not fit, and reject = "all" refuses the whole load for one',
            "see them with kanal rejects, and correct the source or the mapping",
        )
    if (final or not isinstance(settings.max_rejects, str)) and not settings.allows_rejects(rejected, read):
        raise TooManyRejects(
            f"{rejected:,} of {read:,} rows were rejected, more than max_rejects = {settings.max_rejects} allows",
            "see them with kanal rejects, and correct the source or the mapping",
        )


def limits_deletes(plan: PipelinePlan, deleted: int) -> bool:
    """True if it matters how many rows the target had, since some of them are deleted."""
    return plan.settings.max_deletes is not None and not plan.writing.rule.empties and bool(deleted)


def limit_deletes(plan: PipelinePlan, deleted: int, before: int) -> None:
    """Raise TooManyDeletes if more of the rows that the target had are deleted than the pipeline allows."""
    if not plan.settings.allows_deletes(deleted, before):
        raise TooManyDeletes(
            f"{deleted:,} of {before:,} rows of {plan.target_table.name} would be deleted, more than "
            f"max_deletes = {plan.settings.max_deletes} allows",
            "see with kanal compare which ones, and correct the source, or allow more",
        )


def require_rows(plan: PipelinePlan, tally: Tally, before: int) -> None:
    """Raise TooFewRows if the source has given fewer rows than the pipeline requires, or no rows for a table that is
    emptied and had some. `before` is the number of rows of the target, if a share of it is required."""
    least, table = plan.settings.min_rows, plan.target_table.name
    came = tally.read - tally.filtered
    if least is None:
        if plan.writing.rule.empties and not came and tally.deleted:
            raise TooFewRows(
                f"the source gave no rows, and {table} has {tally.deleted:,}, which would all be gone",
                "see what the source and the filter give, or set min_rows = 0 if the table may be emptied",
            )
        return
    wanted = least if isinstance(least, int) else math.ceil(share_of(least) * before)
    if came < wanted:
        asked = f"{least:,}" if isinstance(least, int) else f"{least} of the {before:,} of {table}"
        raise TooFewRows(
            f"the source gave {came:,} rows, fewer than min_rows = {asked}",
            "see what the source and the filter give, or set a smaller min_rows",
        )
