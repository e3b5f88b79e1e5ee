"""Runs jobs: plans them, puts their steps in order, moves the rows, keeps the log."""

from kanal.runner.plan import JobPlan, plan_job
from kanal.runner.results import Run, StepResult, run_document, step_document
from kanal.runner.run import Watcher, check_job, replay_run, resume_run, run_job, run_log_of

__all__ = [
    "JobPlan",
    "Run",
    "StepResult",
    "Watcher",
    "check_job",
    "plan_job",
    "replay_run",
    "resume_run",
    "run_document",
    "run_job",
    "run_log_of",
    "step_document",
]
