"""The run log: what was run, with which counts, and every row that was rejected."""

from kanal.runlog.store import BatchRecord, RunLogStore, RunRecord, StepRecord, Usual

__all__ = ["BatchRecord", "RunLogStore", "RunRecord", "StepRecord", "Usual"]
