"""What a run asks of one step."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct, field

from kanal.connections.journal import Progress
from kanal.connections.loading import Load, RefusedRow
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.runlog import BatchRecord
from kanal.runner.job_plan import PipelinePlan
from kanal.runner.replay import Rejected

#: Called after each batch with the step's counts so far, the batch's record and its rejects.
OnBatch = Callable[[Tally, BatchRecord, list[Reject]], None]


class StepContext(Struct):
    """One execution of a pipeline: its plan, and what its run knows about it.

    `moment` is the value of CURRENT_TIMESTAMP. `job` is the name of the job, and `run` the number of the run.
    """

    plan: PipelinePlan
    moment: dt.datetime
    job: str
    run: int = 0
    #: Rejected rows to read instead of the source.
    replayed: Rejected | None = None
    #: What an earlier try has committed, if the step commits batch by batch.
    begun: Progress | None = None
    #: Rows that the target refused in an earlier try, if the step commits batch by batch.
    refused_before: Sequence[Mapping[str, str | None]] = ()
    #: Rejects of earlier runs, by the key of their source row.
    earlier: Mapping[str, Sequence[int]] = field(default_factory=dict)
    #: Rows that refer to rows which will not come, by the key that they would have in the target.
    open_ends: Mapping[str, RefusedRow] = field(default_factory=dict)
    #: True if the step is rolled back at the end and must leave no traces.
    rehearsal: bool = False
    #: True if the step writes nothing at all.
    trial: bool = False
    #: True if the step commits by itself, though a rehearsal runs it in a transaction with others.
    apart: bool = False
    #: Records, within a load, what is committed with it.
    record: Callable[[Load, Progress], None] | None = None
    #: Called with each load that begins.
    on_load: Callable[[Load], None] = lambda load: None
    on_batch: OnBatch = lambda tally, record, rejects: None
    #: Called before each commit.
    before_commit: Callable[[], None] = lambda: None

    @property
    def keeps(self) -> bool:
        """True if what the step does is committed."""
        return not (self.rehearsal or self.trial)
