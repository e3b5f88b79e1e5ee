"""The run log: what was run, with which counts, and every row that was rejected."""

from kanal.runlog.store import RunLogStore, RunRecord, StepRecord

__all__ = ["RunLogStore", "RunRecord", "StepRecord"]
