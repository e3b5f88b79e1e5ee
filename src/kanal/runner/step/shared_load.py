"""One transaction for several steps."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct, field

from kanal.connections.loading import Load, RefusedRow
from kanal.core.errors import KanalError
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.write_rule import WriteRule
from kanal.runner.write_rules import rule_for


class OpenEnds(KanalError):
    """Loaded rows refer to rows that were expected later and did not come; by step, and by their key."""

    def __init__(self, rows: dict[str, dict[str, RefusedRow]]) -> None:
        self.rows = rows
        step, found = next(iter(rows.items()))
        super().__init__(
            f"{len(found):,} rows of {step} refer to rows that did not come: {next(iter(found.values())).words}",
            "correct the source",
        )


class SharedLoad(Struct):
    """One transaction for several steps.

    `emptied` has the write rules of steps whose targets were emptied, with the number of deleted rows; `left_open`
    those that have left references open; by step.
    """

    load: Load
    emptied: dict[str, tuple[WriteRule, int]] = field(default_factory=dict)
    left_open: dict[str, WriteRule] = field(default_factory=dict)
    #: Functions that delete the rows missing in the source after all steps have loaded; by step, in order.
    deleting: dict[str, Callable[[Load], None]] = field(default_factory=dict)
    closing: list[WriteRule] = field(default_factory=list)

    def finish(self) -> None:
        """Do what follows once all steps have loaded; raises OpenEnds and KanalError."""
        self.close_references()
        for delete in reversed(self.deleting.values()):
            delete(self.load)
        for rule in self.closing:
            rule.close()

    def close_references(self) -> None:
        """Fill in the references that were left open; raises OpenEnds if rows refer to some that did not come."""
        ends: dict[str, dict[str, RefusedRow]] = {}
        for step, rule in self.left_open.items():
            found = rule.left_open.open_ends() if rule.left_open is not None else {}
            if found:
                ends[step] = found
        if ends:
            raise OpenEnds(ends)
        for rule in self.left_open.values():
            if rule.left_open is not None:
                rule.left_open.close_references()
        self.left_open.clear()

    def empty(self, plan: PipelinePlan) -> None:
        """Empty the target of a step, if its write rule does it, before any step loads."""
        rule = rule_for(self.load, plan.writing)
        if rule.empties:
            self.emptied[plan.name] = rule, rule.begin().deleted
