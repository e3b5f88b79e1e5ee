"""Runs jobs: plans them, puts their steps in order, moves the rows, keeps the log."""

from kanal.runner.plan import plan_job
from kanal.runner.plans import JobPlan
from kanal.runner.results import Run, StepResult, run_document, step_document
from kanal.runner.run import MarkState, check_job, marks_of, replay_run, resume_run, run_job, run_log_of, set_mark
from kanal.runner.watcher import Watcher

__all__ = [
    "JobPlan",
    "MarkState",
    "Run",
    "StepResult",
    "Watcher",
    "check_job",
    "marks_of",
    "plan_job",
    "replay_run",
    "resume_run",
    "run_document",
    "run_job",
    "run_log_of",
    "set_mark",
    "step_document",
]
