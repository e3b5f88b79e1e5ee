"""The run log: what was run, with which counts, and every row that was rejected."""

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
from kanal.runlog.store import AlreadyRunning, RunLogStore

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
