"""The run log: what was run, with which counts, and every row that was rejected."""

from kanal.runlog.records import BatchRecord, RunRecord, SeenTable, StepRecord, StepSeed, Usual
from kanal.runlog.store import RunLogStore

__all__ = ["BatchRecord", "RunLogStore", "RunRecord", "SeenTable", "StepRecord", "StepSeed", "Usual"]
