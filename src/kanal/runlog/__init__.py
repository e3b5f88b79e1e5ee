"""The run log: what was run, with which counts, and every row that was rejected."""

from kanal.runlog.records import BatchRecord, RunGlance, RunRecord, SeenTable, Start, StepRecord, StepSeed, Usual
from kanal.runlog.store import AlreadyRunning, RunLogStore

__all__ = [
    "AlreadyRunning",
    "BatchRecord",
    "RunGlance",
    "RunLogStore",
    "RunRecord",
    "SeenTable",
    "Start",
    "StepRecord",
    "StepSeed",
    "Usual",
]
