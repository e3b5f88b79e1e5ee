"""The run log: runs, steps, counts and rejected rows."""

from kanal.runlog.records import (
    BLOCK,
    BatchRecord,
    RunGlance,
    RunRecord,
    SeenTable,
    Start,
    StepRecord,
    StepSeed,
    TaskRecord,
    Usual,
    WorkerShare,
    by_worker,
)
from kanal.runlog.runs import AlreadyRunning
from kanal.runlog.store import RunLogStore

__all__ = [
    "BLOCK",
    "AlreadyRunning",
    "BatchRecord",
    "RunGlance",
    "RunLogStore",
    "RunRecord",
    "SeenTable",
    "Start",
    "StepRecord",
    "StepSeed",
    "TaskRecord",
    "Usual",
    "WorkerShare",
    "by_worker",
]
